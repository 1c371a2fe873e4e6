package handover

import (
	"bufio"
	"fmt"
	"io"
	"regexp"
	"strings"
)

// hosts is a hosts file: address, names, and after # the tag and how far the entry is.
// Names are those of RFC 1123, 2.1.
var hosts = &Document{
	Name: "hosts", Says: "Hosts file: address and name of every entry that has both", File: "hosts",
	Kind: "text/plain; charset=utf-8",
	Write: func(out io.Writer, r Record) error {
		w := bufio.NewWriter(out)
		fmt.Fprintf(w, "# %s, as planned; made %s\n", plain(r.Site.Name), r.At.UTC().Format("2006-01-02 15:04 UTC"))
		for _, e := range r.Entries {
			switch name := strings.ToLower(e.Name); {
			case name == "" || !e.Address.IsValid():
			case !hostName.MatchString(name):
				fmt.Fprintf(w, "# %s: its name is none for a host: %s\n", plain(e.Tag), plain(e.Name))
			default:
				if e.Domain != "" {
					name = name + "." + plain(e.Domain) + " " + name
				}
				fmt.Fprintf(w, "%s\t%s\t# %s, %s\n", e.Address, name, plain(e.Tag), plain(e.Stands))
			}
		}
		return w.Flush()
	},
}

var hostName = regexp.MustCompile(`^([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)*[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// plain keeps a text on its line.
func plain(text string) string { return strings.Join(strings.Fields(text), " ") }
