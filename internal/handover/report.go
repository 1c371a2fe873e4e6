package handover

import (
	"cmp"
	"crypto/ed25519"
	"encoding/binary"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/chain"
	"redstart/internal/core/result"
)

// Finding is something that was found of the plan, a device or the segment.
type Finding struct {
	Level, Of, Text string
	Since           time.Time
	Gone            time.Time // zero while it stands open
	By              string    // who did what with which it went away; "" if nobody knows
}

// Act is something that somebody did.
type Act struct {
	At        time.Time
	Who, What string
}

// report is the whole record for people, as PDF (ISO 32000): what there is, how far it is, and
// what shows it.
var report = &Document{
	Name: "report", Says: "Report for people, as PDF: summary, subnets, register, what is not verified, findings and what was done about them, checks, who did what",
	File: "report.pdf", Kind: "application/pdf",
	Write: func(out io.Writer, r Record) error {
		p := newPaper(r, r.say("Handover report"))
		p.cover()
		p.summary()
		p.subnets()
		p.byArea()
		p.open()
		p.checks()
		p.acts()
		return p.Output(out)
	},
}

// Sheets writes a page for each chosen device: what it is, where, and every check.
func Sheets(out io.Writer, r Record, tags []string) error {
	p := newPaper(r, r.say("Commissioning sheet"))
	first := true
	for _, e := range r.Entries {
		if !slices.Contains(tags, e.Tag) {
			continue
		}
		if !first {
			p.AddPage()
		}
		first = false
		p.device(0, e)
	}
	return p.Output(out)
}

func (p *paper) cover() {
	p.SetY(90)
	p.Bookmark(p.r.say("Handover report"), 0, -1)
	p.font("B", 30)
	p.MultiCell(inner, 13, p.r.Site.Name, "", "L", false)
	p.Ln(3)
	p.font("", 16)
	p.MultiCell(inner, 8, p.r.say("Handover report"), "", "L", false)
	p.Ln(10)
	p.font("", 10.5)
	for _, text := range []string{p.r.say("as of") + " " + p.r.stamp(), p.r.Site.Contact, p.r.Site.Notes,
		p.r.say("The record is signed with the key") + " " + chain.KeyText(p.r.Signer.Public().(ed25519.PublicKey))} {
		if text != "" {
			p.MultiCell(inner, 5.5, text, "", "L", false)
		}
	}
	p.AddPage()
}

// states are those of entries, from the furthest on.
var states = []string{"verified", "configured", "configuring", "matched", "planned", NotWired, "needs attention"}

// summary counts, and draws how far the site is: each state has a shade and is named.
func (p *paper) summary() {
	p.heading(0, p.r.say("Summary"))
	count, kinds := map[string]int{}, map[string]map[string]int{}
	for _, e := range p.r.Entries {
		count[e.State]++
		if kinds[e.Kind] == nil {
			kinds[e.Kind] = map[string]int{}
		}
		kinds[e.Kind][e.State]++
	}
	total := len(p.r.Entries)
	p.say(fmt.Sprintf("%d %s: %d %s, %d %s.", total, p.r.say("entries"), count["verified"], p.r.say("verified"),
		total-count["verified"], p.r.say("not verified")))
	if total > 0 {
		x, y := margin, p.GetY()+1
		for i, state := range states {
			width := inner * float64(count[state]) / float64(total)
			if width == 0 {
				continue
			}
			shade := 40 + i*34
			p.SetFillColor(shade, shade, shade)
			p.Rect(x, y, width, 9, "FD")
			if width > 12 {
				p.font("B", 9)
				if shade < 130 {
					p.SetTextColor(255, 255, 255)
				}
				p.SetXY(x, y)
				p.CellFormat(width, 9, fmt.Sprint(count[state]), "", 0, "C", false, 0, "")
				p.SetTextColor(0, 0, 0)
			}
			x += width
		}
		p.SetXY(margin, y+11)
		for i, state := range states {
			if count[state] == 0 {
				continue
			}
			shade := 40 + i*34
			p.SetFillColor(shade, shade, shade)
			p.Rect(p.GetX(), p.GetY()+0.8, 3, 3, "FD")
			p.SetX(p.GetX() + 4)
			p.font("", 9)
			text := fmt.Sprintf("%s: %d", p.r.say(state), count[state])
			p.CellFormat(p.GetStringWidth(text)+5, 4.6, text, "", 0, "L", false, 0, "")
		}
		p.SetFillColor(0, 0, 0)
		p.Ln(9)
	}
	var rows [][]string
	for _, kind := range slices.Sorted(keys(kinds)) {
		var parts []string
		n := 0
		for _, state := range states {
			if c := kinds[kind][state]; c > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", c, p.r.say(state)))
				n += c
			}
		}
		rows = append(rows, []string{kind, fmt.Sprint(n), strings.Join(parts, ", ")})
	}
	p.table([]string{"Kind", "Number", "State"}, []float64{3, 1, 7}, rows)
}

func keys[V any](m map[string]V) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// mostBlocks are the blocks of 256 addresses that are drawn of one subnet.
const mostBlocks = 16

// subnets draws what the addresses of each are for.
func (p *paper) subnets() {
	p.AddPage()
	p.heading(0, p.r.say("Subnets"))
	for _, n := range p.r.Site.Subnets {
		if !n.Prefix.IsValid() {
			continue
		}
		p.room(75) // with its first block
		p.heading(1, strings.TrimSpace(n.Name+" "+n.Prefix.String()))
		list := func(as []netip.Addr) string {
			var parts []string
			for _, a := range as {
				parts = append(parts, a.String())
			}
			return strings.Join(parts, ", ")
		}
		vlan := ""
		if n.VLAN > 0 {
			vlan = fmt.Sprint(n.VLAN)
		}
		p.table([]string{"Gateway", "VLAN", "DNS", "NTP", "Domain"}, []float64{2, 1, 3, 3, 3},
			[][]string{{addrText(n.Gateway), vlan, list(n.DNS), list(n.NTP), n.Domain}})
		marks := map[netip.Addr]byte{}
		for _, k := range n.KeptFree {
			for a := k.Range.From; a.IsValid() && k.Range.Contains(a) && n.Prefix.Contains(a) && len(marks) < 1<<16; a = a.Next() {
				marks[a] = 'k'
			}
		}
		for _, e := range p.r.addressed() {
			if n.Prefix.Contains(e.Address) {
				marks[e.Address] = 'p'
				if e.State == "verified" {
					marks[e.Address] = 'v'
				}
			}
		}
		if n.Gateway.IsValid() {
			marks[n.Gateway] = 'g'
		}
		blocks := 1
		if bits := n.Prefix.Bits(); bits < 24 {
			blocks = 1 << (24 - bits)
		}
		drawn := 0
		for b := range blocks {
			first := n.Prefix.Masked().Addr().As4()
			base := binary.BigEndian.Uint32(first[:]) + uint32(b)<<8
			if blocks > mostBlocks && !used(marks, base) {
				continue
			}
			if drawn++; drawn > mostBlocks {
				break
			}
			p.block(n.Prefix, base, marks)
		}
		p.font("", 8)
		p.say(p.r.say("Black: verified. Grey: planned. G: gateway. Crossed: kept free. White: free."))
	}
}

func used(marks map[netip.Addr]byte, base uint32) bool {
	for i := range uint32(256) {
		if marks[address4(base+i)] != 0 {
			return true
		}
	}
	return false
}

func address4(n uint32) netip.Addr {
	return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
}

// block draws 256 addresses, 32 in a row.
func (p *paper) block(prefix netip.Prefix, base uint32, marks map[netip.Addr]byte) {
	const side = 4.4
	p.room(8*side + 6)
	p.font("", 8)
	p.SetX(margin)
	p.CellFormat(inner, 4, address4(base).String(), "", 1, "L", false, 0, "")
	top := p.GetY()
	p.SetLineWidth(0.1)
	for i := range uint32(256) {
		a := address4(base + i)
		if !prefix.Contains(a) {
			continue
		}
		x, y := margin+10+float64(i%32)*side, top+float64(i/32)*side
		if i%32 == 0 {
			p.SetXY(margin, y)
			p.CellFormat(9, side, fmt.Sprintf(".%d", i), "", 0, "R", false, 0, "")
		}
		fill := "D"
		switch marks[a] {
		case 'v':
			p.SetFillColor(0, 0, 0)
			fill = "FD"
		case 'p':
			p.SetFillColor(170, 170, 170)
			fill = "FD"
		}
		p.Rect(x, y, side-0.6, side-0.6, fill)
		switch marks[a] {
		case 'k':
			p.Line(x, y, x+side-0.6, y+side-0.6)
			p.Line(x, y+side-0.6, x+side-0.6, y)
		case 'g':
			p.SetXY(x-0.6, y)
			p.CellFormat(side, side-0.8, "G", "", 0, "C", false, 0, "")
		}
	}
	p.SetLineWidth(0.2)
	p.SetFillColor(0, 0, 0)
	p.SetXY(margin, top+8*side+1.5)
}

// byArea is the register, a table for each area.
func (p *paper) byArea() {
	p.AddPage()
	p.heading(0, p.r.say("Register"))
	p.say(p.r.say("A star stands before what was not verified."))
	areas := map[string][]Entry{}
	for _, e := range p.r.Entries {
		areas[e.Area] = append(areas[e.Area], e)
	}
	for _, area := range slices.Sorted(keys(areas)) {
		p.heading(1, cmp.Or(area, p.r.say("Without an area")))
		var rows [][]string
		for _, e := range areas[area] {
			row := []string{e.Tag, e.Place}
			for _, key := range []string{"model", "serial", "mac", "address", "name"} {
				v := p.r.value(e, key)
				text := v.Text
				if text != "" && !v.Verified {
					text = "* " + text
				}
				row = append(row, text)
			}
			rows = append(rows, append(row, p.r.say(e.State)))
		}
		p.table([]string{"Tag", "Place", "Model", "Serial", "MAC", "Address", "Device name", "State"},
			[]float64{4.1, 3, 3.3, 3.1, 3.7, 2.7, 4.1, 2.5}, rows)
	}
}

// value gives a value of the register by its column.
func (r Record) value(e Entry, key string) Value {
	for _, c := range Columns {
		if c.Key == key {
			return c.of(r, e)
		}
	}
	return Value{}
}

// open lists what is not verified and why, and what was found and stands open.
func (p *paper) open() {
	p.AddPage()
	p.heading(0, p.r.say("Not verified, and why"))
	var rows [][]string
	for _, e := range p.r.Entries {
		why := e.unverified(p.r)
		switch {
		case len(why) > 0 || e.State == "verified":
		case e.CheckedAt.IsZero() && (e.State == "configured" || e.State == "matched"):
			why = []string{p.r.say(e.State) + ", " + p.r.say("and never looked at")}
		default:
			why = []string{e.Stands}
		}
		for _, text := range why {
			rows = append(rows, []string{e.Tag, e.Place, text})
		}
	}
	switch {
	case len(p.r.Entries) == 0:
		p.say(p.r.say("The plan has nothing that is wired."))
	case len(rows) == 0:
		p.say(p.r.say("Everything was verified."))
	default:
		p.table([]string{"Tag", "Place", "Why"}, []float64{3, 3, 9}, rows)
	}
	p.findings()
}

// mostFormer are the findings that went away which are listed, the latest ones.
const mostFormer = 500

// findings lists what was found and stands open, and what was done about what does not.
func (p *paper) findings() {
	p.heading(0, p.r.say("Findings, and what was done about them"))
	var open, former [][]string
	for _, f := range p.r.Findings {
		row := []string{p.r.say(f.Level), f.Of, f.Text, minute(f.Since)}
		if f.Gone.IsZero() {
			open = append(open, row)
			continue
		}
		done := minute(f.Gone) + ", " + f.By
		if f.By == "" {
			done = p.r.say("was there no more") + " " + minute(f.Gone)
		}
		former = append(former, append(row, done))
	}
	p.heading(1, p.r.say("Stand open"))
	if len(open) == 0 {
		p.say(p.r.say("None."))
	} else {
		p.table([]string{"Level", "Of", "Finding", "Since"}, []float64{1.7, 2.8, 10.6, 2.9}, open)
	}
	p.heading(1, p.r.say("Went away"))
	if len(former) == 0 {
		p.say(p.r.say("None."))
		return
	}
	if more := len(former) - mostFormer; more > 0 {
		former = former[more:]
		p.say(fmt.Sprintf("%s: %d.", p.r.say("Earlier ones that are not listed"), more))
	}
	p.table([]string{"Level", "Of", "Finding", "Since", "What was done"}, []float64{1.7, 2.8, 5.6, 2.9, 5}, former)
}

func minute(at time.Time) string { return at.UTC().Format("2006-01-02 15:04") }

// device writes what one device is and every check of it.
func (p *paper) device(level int, e Entry) {
	p.heading(level, e.Tag)
	var parts []string
	for _, key := range []string{"place", "model", "serial", "mac", "address", "name", "firmware", "behind", "state", "checked"} {
		if v := p.r.value(e, key); v.Text != "" {
			parts = append(parts, v.Text)
		}
	}
	p.say(strings.Join(parts, " · "))
	if len(e.Checks) == 0 {
		p.say(p.r.say("It was never looked at."))
		return
	}
	var rows [][]string
	for _, c := range e.Checks {
		verdict := p.r.say(c.Verdict.String())
		if c.Verdict != result.Passed {
			verdict = "* " + verdict
		}
		rows = append(rows, []string{c.Name, c.Expected, c.Observed, verdict, c.By, c.At.UTC().Format("2006-01-02 15:04:05")})
	}
	p.table([]string{"Check", "Expected", "Observed", "Result", "Rests on", "At"}, []float64{2.9, 3.1, 3.1, 1.8, 5.2, 3.1}, rows)
}

func (p *paper) checks() {
	p.AddPage()
	p.heading(0, p.r.say("Checks per device"))
	for _, e := range p.r.Entries {
		if len(e.Checks) > 0 {
			p.device(2, e)
		}
	}
}

// acts says who did what, and when.
func (p *paper) acts() {
	p.AddPage()
	p.heading(0, p.r.say("Who did what"))
	var rows [][]string
	for _, a := range p.r.Acts {
		rows = append(rows, []string{minute(a.At), a.Who, a.What})
	}
	p.table([]string{"At", "Who", "What"}, []float64{2.4, 2.4, 10}, rows)
}
