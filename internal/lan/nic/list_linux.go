package nic

import (
	"bufio"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"redstart/internal/core/address"
)

// List tells of every Ethernet interface of this computer what matters for
// choosing one. It only reads what the kernel shows.
func List() ([]Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	route := defaultRoute("/proc/net/route")
	list := []Interface{}
	for _, i := range all {
		if len(i.HardwareAddr) != 6 {
			continue
		}
		n := Interface{Name: i.Name, MAC: address.MACFrom(i.HardwareAddr), Up: i.Flags&net.FlagUp != 0,
			DefaultRoute: i.Name == route}
		dir := filepath.Join("/sys/class/net", i.Name)
		n.Link = read(dir, "carrier") == "1"
		n.Speed, _ = strconv.Atoi(read(dir, "speed")) // absent or -1: unknown
		n.Speed = max(n.Speed, 0)
		_, err := os.Stat(filepath.Join(dir, "wireless"))
		_, err2 := os.Stat(filepath.Join(dir, "phy80211"))
		n.Wireless = err == nil || err2 == nil
		_, err = os.Stat(filepath.Join(dir, "device"))
		n.Virtual = err != nil
		addresses, err := i.Addrs()
		if err != nil {
			return nil, err
		}
		for _, a := range addresses {
			if p, err := netip.ParsePrefix(a.String()); err == nil {
				n.Addresses = append(n.Addresses, p)
			}
		}
		list = append(list, n)
	}
	return list, nil
}

func read(dir, name string) string {
	b, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return "" // an interface that is down has no carrier to read
	}
	return strings.TrimSpace(string(b))
}

// defaultRoute names the interface that the kernel's default IPv4 route goes by.
func defaultRoute(path string) string {
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		if fields := strings.Fields(lines.Text()); len(fields) > 7 && fields[1] == "00000000" &&
			fields[7] == "00000000" {
			return fields[0]
		}
	}
	return ""
}
