// Package adapter opens ports by the names that people give: a network interface, or a
// virtual LAN on one.
package adapter

import (
	"net"
	"strconv"
	"strings"

	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/lan/nic"
	"redstart/internal/lan/vlan"
)

// Open opens a port on an interface, or on a virtual LAN of one: eth1.108 is number 108 on
// eth1, unless the computer itself has an interface of that name. With promiscuous,
// frames for any MAC are received.
func Open(name string, promiscuous bool) (lan.Port, error) {
	base, id, err := Parse(name)
	if err != nil {
		return nil, err
	}
	p, err := nic.Open(base, promiscuous)
	if err != nil {
		return nil, err
	}
	return vlan.On(p, id), nil
}

// Parse splits a name into the interface and the number of the virtual LAN on it.
func Parse(name string) (base string, id uint16, err error) {
	if _, err := net.InterfaceByName(name); err == nil {
		return name, vlan.None, nil
	}
	base, number, tagged := strings.Cut(name, ".")
	if !tagged {
		return name, vlan.None, nil // opening it says that there is none
	}
	n, err := strconv.ParseUint(number, 10, 16)
	if err != nil || n < vlan.First || n > vlan.Last {
		return "", 0, problem.New(problem.Usage, name+" names no virtual LAN",
			"write it like eth1.108, with a number from 1 to 4094").About("interface")
	}
	return base, uint16(n), nil
}
