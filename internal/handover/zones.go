package handover

import (
	"archive/zip"
	"cmp"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strings"
)

// zones are the zones of the site (RFC 1035, 5), a file each: one for each domain, and one for
// the addresses of each subnet in in-addr.arpa (RFC 1035, 3.5), cut at whole octets: 10.40.8.0/22
// is in 40.10.in-addr.arpa.
var zones = &Document{
	Name: "zones", Says: "DNS zones, forward and reverse, a file each (RFC 1035)", File: "zones.zip", Kind: "application/zip",
	Write: func(out io.Writer, r Record) error {
		files := map[string]*strings.Builder{}
		line := func(origin, format string, args ...any) {
			if files[origin] == nil {
				files[origin] = &strings.Builder{}
				r.soa(files[origin], origin)
			}
			fmt.Fprintf(files[origin], format, args...)
		}
		for _, domain := range r.domains() {
			for _, e := range r.named(domain) {
				name := strings.ToLower(e.Name)
				line(domain, "%s\tIN\tA\t%s\t; %s, %s\n", name, e.Address, comment(e.Tag), comment(e.Stands))
				origin, rest := reverse(e.Address, r.Site.SubnetOf(e.Address).Prefix.Bits())
				line(origin, "%s\tIN\tPTR\t%s.%s.\t; %s\n", rest, name, domain, comment(e.Tag))
			}
		}
		w := zip.NewWriter(out)
		for _, origin := range slices.Sorted(maps.Keys(files)) {
			f, err := w.Create(origin + ".zone")
			if err == nil {
				_, err = io.WriteString(f, files[origin].String())
			}
			if err != nil {
				return err
			}
		}
		return w.Close()
	},
}

// reverse gives the zone of an address, by the whole octets of its subnet, and its name there.
func reverse(a netip.Addr, bits int) (origin, rest string) {
	octets, whole := a.As4(), min(max(bits/8, 1), 3)
	var zone, name []string
	for i := 3; i >= 0; i-- {
		if i < whole {
			zone = append(zone, fmt.Sprint(octets[i]))
		} else {
			name = append(name, fmt.Sprint(octets[i]))
		}
	}
	return strings.Join(zone, ".") + ".in-addr.arpa", strings.Join(name, ".")
}

// soa begins a zone. Its serial is the time of the record (RFC 1912, 2.2), and its server and
// mailbox are to be replaced by those that serve it.
func (r Record) soa(w io.Writer, origin string) {
	fmt.Fprintf(w, "; %s, %s; %s %s\n", comment(r.Site.Name), r.say("as planned"), r.say("made"), r.At.UTC().Format("2006-01-02 15:04 UTC"))
	fmt.Fprintf(w, "$ORIGIN %s.\n$TTL 3600\n@\tIN\tSOA\tns.invalid. hostmaster.invalid. %d 7200 3600 1209600 3600\n", origin, r.At.Unix())
	fmt.Fprintf(w, "@\tIN\tNS\tns.invalid.\n")
}

// domains are those of the site's subnets, each once.
func (r Record) domains() (list []string) {
	for _, e := range r.Entries {
		if d := strings.ToLower(strings.TrimSuffix(e.Domain, ".")); hostName.MatchString(d) && !slices.Contains(list, d) {
			list = append(list, d)
		}
	}
	slices.Sort(list)
	return list
}

// named are the entries of a domain that have an address and a name for a host, by address.
func (r Record) named(domain string) (list []Entry) {
	for _, e := range r.Entries {
		if strings.EqualFold(strings.TrimSuffix(e.Domain, "."), domain) && e.Address.Is4() &&
			hostName.MatchString(strings.ToLower(e.Name)) {
			list = append(list, e)
		}
	}
	slices.SortStableFunc(list, func(a, b Entry) int { return cmp.Or(a.Address.Compare(b.Address), cmp.Compare(a.Tag, b.Tag)) })
	return list
}

// comment keeps a text on its line, and ends no quotes.
func comment(text string) string {
	return strings.NewReplacer(`"`, "'", "\\", "/").Replace(plain(text))
}

// addressed are the entries with an IPv4 address, by address.
func (r Record) addressed() []Entry {
	list := slices.DeleteFunc(slices.Clone(r.Entries), func(e Entry) bool { return !e.Address.Is4() })
	slices.SortStableFunc(list, func(a, b Entry) int { return cmp.Or(a.Address.Compare(b.Address), cmp.Compare(a.Tag, b.Tag)) })
	return list
}

func inside(p netip.Prefix, a netip.Addr) bool { return p.IsValid() && p.Contains(a) }
