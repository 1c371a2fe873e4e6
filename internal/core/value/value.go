// Package value compares what a device tells with what was planned by its meaning:
// one box tells a mask, another a prefix length, a third both in one.
package value

import (
	"net/netip"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/address"
)

// Addressing gives the facts with address and mask as plans have them, whichever of
// these a device tells: address and mask, address and bits (a prefix length), or a
// cidr, which is an address with its prefix length (RFC 4632, 3.1). What cannot be understood stays as it
// is; nothing is made up.
func Addressing(facts map[string]string) map[string]string {
	out := make(map[string]string, len(facts)+1)
	for key, v := range facts {
		out[key] = v
	}
	if p, err := netip.ParsePrefix(strings.TrimSpace(out["cidr"])); err == nil && p.Addr().Is4() {
		out["address"], out["mask"] = p.Addr().String(), address.Mask(p)
	}
	if out["mask"] == "" {
		if mask, ok := maskOf(out["bits"]); ok {
			out["mask"] = mask
		}
	} else if mask, ok := maskOf(out["mask"]); ok { // it calls a prefix length a mask
		out["mask"] = mask
	}
	return out
}

// maskOf gives the mask for a prefix length, with or without its slash.
func maskOf(bits string) (string, bool) {
	n, err := strconv.Atoi(strings.TrimPrefix(strings.TrimSpace(bits), "/"))
	if err != nil || n < 0 || n > 32 {
		return "", false
	}
	return address.Mask(netip.PrefixFrom(netip.IPv4Unspecified(), n)), true
}

// yes and no are the words that devices have for them.
var (
	yes = []string{"yes", "true", "on", "enabled", "enable", "1"}
	no  = []string{"no", "false", "off", "disabled", "disable", "0"}
)

// YesNo gives yes or no for a device's word; ok is false for any other.
func YesNo(word string) (v string, ok bool) {
	word = strings.ToLower(strings.TrimSpace(word))
	for _, w := range yes {
		if word == w {
			return "yes", true
		}
	}
	for _, w := range no {
		if word == w {
			return "no", true
		}
	}
	return "", false
}

// clockForms are the forms in which devices tell a moment without saying its zone.
var clockForms = []string{"2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04:05.999",
	"02.01.2006 15:04:05"}

// Clock reads a moment that a device tells: RFC 3339, seconds since 1970, or date and time
// in a zone; ok is false for anything else.
func Clock(told string, in *time.Location) (at time.Time, ok bool) {
	told = strings.TrimSpace(told)
	if at, err := time.Parse(time.RFC3339, told); err == nil {
		return at, true
	}
	for _, form := range clockForms {
		if at, err := time.ParseInLocation(form, told, in); err == nil {
			return at, true
		}
	}
	if n, err := strconv.ParseInt(told, 10, 64); err == nil {
		return time.Unix(n, 0), true
	}
	return time.Time{}, false
}
