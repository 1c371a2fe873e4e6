//go:build !linux

package nic

import (
	"redstart/internal/core/problem"
	"redstart/internal/lan"
)

// Open is there on Linux only.
func Open(name string, promiscuous bool) (lan.Port, error) {
	return nil, problem.New(problem.Machine, "network interfaces can be opened on Linux only",
		"use Linux, or the simulated site with: redstart demo").About("interface")
}
