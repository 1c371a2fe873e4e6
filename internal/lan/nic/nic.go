// Package nic is a port on a network interface of this computer.
package nic

import (
	"net"
	"net/netip"
	"strings"

	"redstart/internal/core/address"
)

// Interface is one Ethernet interface of this computer.
type Interface struct {
	Name         string
	MAC          address.MAC
	Up           bool
	Link         bool // a cable with somebody at its other end
	Speed        int  // Mbit/s; 0: unknown
	Wireless     bool
	Virtual      bool           // no hardware behind it
	DefaultRoute bool           // the computer reaches the rest of the world by it
	Addresses    []netip.Prefix // the computer's own
}

// names lists the Ethernet interfaces of this computer.
func names() string {
	all, err := net.Interfaces()
	if err != nil {
		return "none"
	}
	var list []string
	for _, i := range all {
		if len(i.HardwareAddr) == 6 {
			list = append(list, i.Name)
		}
	}
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}
