// Package all is the list of the ways of talking to devices. A new one is a folder
// beside this one and a line here.
package all

import (
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/bacnet"
	"redstart/internal/driver/dcp"
	"redstart/internal/driver/dhcp"
	"redstart/internal/driver/enip"
	"redstart/internal/driver/onvif"
	"redstart/internal/driver/restconf"
	"redstart/internal/driver/shell"
	"redstart/internal/driver/snmp"
	"redstart/internal/driver/web"
)

// Drivers are the ways of talking to devices.
var Drivers = []driver.Driver{dcp.Driver{}, dhcp.Driver{}, web.Driver{}, shell.Driver{}, onvif.Driver{},
	restconf.Driver{}, enip.Driver{}, snmp.Driver{}, bacnet.Driver{}}

// Words are the same as profiles know them.
func Words() []profile.Driver {
	list := make([]profile.Driver, len(Drivers))
	for i, d := range Drivers {
		list[i] = d
	}
	return list
}
