// Package fact is the one list of what can be told of a device: what it means, what type
// it has, whether there may be several, and who may tell it. Recognition, probers,
// drivers, checks, exports and help go by it.
package fact

import "slices"

// Keys of facts.
const (
	MAC         = "mac"
	Address     = "address"
	Address6    = "address6"
	Mask        = "mask"
	Bits        = "bits"
	CIDR        = "cidr"
	Gateway     = "gateway"
	DHCPClient  = "dhcp-client"
	DNS         = "dns"
	DNS2        = "dns2"
	NTP         = "ntp"
	NTP2        = "ntp2"
	Domain      = "domain"
	Zone        = "zone"
	ZonePOSIX   = "zone-posix"
	Log         = "log"
	Traps       = "traps"
	Clock       = "clock"
	ClockLocal  = "clock-local"
	Name        = "name"
	Model       = "model"
	Vendor      = "vendor"
	VendorID    = "vendor-id"
	Serial      = "serial"
	Firmware    = "firmware"
	Title       = "title"
	Server      = "server"
	Certificate = "certificate"
	Banner      = "banner"
	Description = "description"
	ObjectID    = "object-id"
	Service     = "service"
	Location    = "location"
	Open        = "open"
	Class       = "class"
	Host        = "host"
	Asks        = "asks"
	Gives       = "gives"
	Instance    = "instance"
	Network     = "network"
	State       = "state"
	Ability     = "ability"
	Port        = "port"
	Behind      = "behind"
	Uptime      = "uptime"
	Starts      = "starts"
	HostID      = "host-id"
	Config      = "configuration"
	Parts       = "parts"
	Heard       = "heard"
	Signal      = "signal"
	Voltage     = "voltage"
	Battery     = "battery"
)

// Types of values.
const (
	Text    = "text"
	Table   = "table"
	Number  = "number"
	Seconds = "seconds"
	Time    = "date and time"
	IPv4    = "IPv4 address"
	IPv6    = "IPv6 address"
	IsMAC   = "MAC address"
)

// Who may tell a fact.
const (
	Finding = 1 << iota // it is heard or asked for when devices are found
	Acts                // acts of profiles take it
)

// Kind is one thing that can be told of a device.
type Kind struct {
	Key     string `json:"key"`
	Meaning string `json:"meaning"`
	Type    string `json:"type"`
	// Several may be true at once; of others the latest value stands.
	Several bool `json:"several,omitempty"`
	// Sign says that profiles may recognise by it.
	Sign bool `json:"sign,omitempty"`
	// Compared says that two who tell it differently at one time contradict each other.
	Compared bool `json:"compared,omitempty"`
	// Listed says that lists of devices have a column for it.
	Listed bool `json:"listed,omitempty"`
	// By is who may tell it: Finding, Acts, or both.
	By int `json:"-"`
}

// All are the kinds of facts, in the order in which they are listed.
var All = []Kind{
	{Key: MAC, Meaning: "its MAC address", Type: IsMAC, Sign: true, By: Finding | Acts},
	{Key: Name, Meaning: "the name by which others find it", Type: Text, Sign: true, Compared: true, Listed: true,
		By: Finding | Acts},
	{Key: Serial, Meaning: "its serial", Type: Text, Sign: true, Compared: true, Listed: true, By: Finding | Acts},
	{Key: Model, Meaning: "its model", Type: Text, Sign: true, Compared: true, Listed: true, By: Finding | Acts},
	{Key: Firmware, Meaning: "the version of its firmware", Type: Text, Sign: true, Compared: true, Listed: true,
		By: Finding | Acts},
	{Key: HostID, Meaning: "what a licence for it is made for", Type: Text, By: Finding | Acts},
	{Key: Vendor, Meaning: "who makes it", Type: Text, Several: true, Sign: true, Compared: true, By: Finding | Acts},
	{Key: VendorID, Meaning: "its maker's number, given by the keeper of a standard", Type: Number, Several: true,
		Sign: true, By: Finding},
	{Key: Address, Meaning: "its IPv4 address", Type: IPv4, Sign: true, By: Finding | Acts},
	{Key: Address6, Meaning: "an IPv6 address of it", Type: IPv6, Several: true, By: Finding},
	{Key: Mask, Meaning: "its subnet mask", Type: Text, By: Acts},
	{Key: Bits, Meaning: "the length of its prefix", Type: Number, By: Acts},
	{Key: CIDR, Meaning: "its address with the length of its prefix", Type: Text, By: Acts},
	{Key: Gateway, Meaning: "its gateway", Type: IPv4, By: Acts},
	{Key: DHCPClient, Meaning: "whether it asks for an address over DHCP: yes or no", Type: Text, By: Acts},
	{Key: DNS, Meaning: "the name server that it asks", Type: IPv4, By: Acts},
	{Key: DNS2, Meaning: "the name server that it asks else", Type: IPv4, By: Acts},
	{Key: NTP, Meaning: "the time server that it takes its time from", Type: IPv4, By: Acts},
	{Key: NTP2, Meaning: "the time server that it takes its time from else", Type: IPv4, By: Acts},
	{Key: Domain, Meaning: "the domain that its name is in", Type: Text, By: Acts},
	{Key: Zone, Meaning: "its time zone, by the IANA database", Type: Text, By: Acts},
	{Key: ZonePOSIX, Meaning: "its time zone, by its rules (IEEE 1003.1, 8.3)", Type: Text, By: Acts},
	{Key: Log, Meaning: "where it sends its messages", Type: IPv4, By: Acts},
	{Key: Traps, Meaning: "where it sends its SNMP notifications", Type: IPv4, By: Acts},
	{Key: Clock, Meaning: "its clock: UTC, with an offset, or seconds since 1970", Type: Time, By: Acts},
	{Key: ClockLocal, Meaning: "its clock in the planned time zone", Type: Time, By: Acts},
	{Key: Title, Meaning: "the title of its page", Type: Text, Sign: true, By: Finding},
	{Key: Server, Meaning: "what its page's answers or announcements name as their server", Type: Text, Sign: true,
		By: Finding},
	{Key: Certificate, Meaning: "the name in its TLS certificate", Type: Text, Several: true, Sign: true, By: Finding},
	{Key: Banner, Meaning: "what its shell says first", Type: Text, Several: true, Sign: true, By: Finding},
	{Key: Description, Meaning: "how it describes itself", Type: Text, Several: true, Sign: true, By: Finding | Acts},
	{Key: ObjectID, Meaning: "its SNMP sysObjectID", Type: Text, Several: true, Sign: true, By: Finding},
	{Key: Service, Meaning: "a service that it offers over DNS-SD", Type: Text, Several: true, Sign: true, By: Finding},
	{Key: Location, Meaning: "where it is, as it tells itself", Type: Text, Sign: true, By: Finding | Acts},
	{Key: Open, Meaning: "a port that answers", Type: Number, Several: true, By: Finding},
	{Key: Class, Meaning: "its DHCP vendor class", Type: Text, Several: true, Sign: true, By: Finding},
	{Key: Host, Meaning: "its DHCP host name", Type: Text, Sign: true, By: Finding},
	{Key: Asks, Meaning: "dhcp: it waits for an address", Type: Text, Several: true, By: Finding},
	{Key: Gives, Meaning: "dhcp: it hands addresses out", Type: Text, Several: true, By: Finding},
	{Key: Instance, Meaning: "its BACnet device instance", Type: Number, Several: true, By: Finding},
	{Key: Network, Meaning: "a BACnet network that it routes to", Type: Number, Several: true, By: Finding},
	{Key: State, Meaning: "factory or set, as it tells itself", Type: Text, Sign: true, By: Finding},
	{Key: Ability, Meaning: "an LLDP system capability", Type: Text, Several: true, By: Finding},
	{Key: Port, Meaning: "of a switch: the port that we hang on", Type: Text, By: Finding},
	{Key: Behind, Meaning: "of a switch's port: a MAC there", Type: IsMAC, Several: true, By: Finding},
	{Key: Uptime, Meaning: "for how long it has run since it started", Type: Seconds, By: Acts},
	{Key: Starts, Meaning: "how often it started", Type: Number, By: Acts},
	{Key: Config, Meaning: "its saved configuration, whole; it may hold secrets and is shown nowhere", Type: Text, By: Acts},
	{Key: Parts, Meaning: "what hangs behind it", Type: Table, By: Acts},
	{Key: Heard, Meaning: "of a part: when the box heard it last", Type: Time, By: Acts},
	{Key: Signal, Meaning: "of a part: its signal-to-noise ratio, in dB", Type: Number, By: Acts},
	{Key: Voltage, Meaning: "of a part: its supply voltage, in V", Type: Number, By: Acts},
	{Key: Battery, Meaning: "of a part: how full its battery is, in percent", Type: Number, By: Acts},
}

// Of gives the kind of a key; ok is false for one that nobody may tell.
func Of(key string) (k Kind, ok bool) {
	i := slices.IndexFunc(All, func(k Kind) bool { return k.Key == key })
	if i < 0 {
		return Kind{}, false
	}
	return All[i], true
}

// Keys lists the keys of the kinds that a test picks.
func Keys(pick func(Kind) bool) (list []string) {
	for _, k := range All {
		if pick(k) {
			list = append(list, k.Key)
		}
	}
	return list
}
