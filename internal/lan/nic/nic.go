// Package nic is a port on a network interface of this computer.
package nic

import (
	"net"
	"strings"
)

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
