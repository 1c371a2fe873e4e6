package plan

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
)

// Quantity asks for a number of entries of one profile.
type Quantity struct {
	Profile string            `json:"profile"`
	Count   int               `json:"count"`           // in each area
	Pattern string            `json:"pattern"`         // of tags, like {area}-CAM-{n:02}
	First   int               `json:"first,omitempty"` // number of the first; 0: the first that is free
	Areas   []string          `json:"areas,omitempty"` // none: one batch without an area
	Floor   string            `json:"floor,omitempty"`
	Place   string            `json:"place,omitempty"`
	Subnet  string            `json:"subnet,omitempty"`
	Address string            `json:"address,omitempty"` // the first address, or a range; "": the next free ones
	Set     map[string]string `json:"set,omitempty"`     // further fields and settings, the same for all
}

// Generate makes the patches that add the quantities to the plan.
func (p Plan) Generate(list []Quantity) ([]Patch, error) {
	used := p.index()
	pool := p.pool()
	var patches []Patch
	for i, q := range list {
		more, err := p.quantity(q, used, pool)
		if err != nil {
			return nil, problem.New(problem.Usage, err.Error(),
				"").About(fmt.Sprintf("quantity %d, %s", i+1, q.Profile))
		}
		patches = append(patches, more...)
	}
	return patches, nil
}

func (p Plan) quantity(q Quantity, used map[string]int, pool *pool) ([]Patch, error) {
	prof := p.Profiles[q.Profile]
	switch {
	case prof == nil:
		return nil, fmt.Errorf("there is no profile %q", q.Profile)
	case q.Count < 1 || q.Count > MaxEntries || q.First < 0:
		return nil, fmt.Errorf("the count must be 1 to %d", MaxEntries)
	case !patternPart.MatchString(q.Pattern):
		return nil, fmt.Errorf("the pattern %q needs a number, as in {area}-CAM-{n:02}", q.Pattern)
	}
	addresses, err := newSeries(q.Address, pool)
	if err != nil {
		return nil, err
	}
	areas := q.Areas
	if len(areas) == 0 {
		areas = []string{""}
	}
	var patches []Patch
	for _, area := range areas {
		n := max(q.First, 1)
		for range q.Count {
			set := map[string]string{"profile": prof.ID, "kind": prof.Kind, "area": area, "floor": q.Floor,
				"place": q.Place, "subnet": q.Subnet, "address": Next, "name": Auto}
			for key, value := range q.Set {
				set[key] = value
			}
			e := Entry{Area: area, Floor: q.Floor, Place: q.Place, Kind: prof.Kind}
			for {
				tag, err := fill(q.Pattern, e.patternValues(p.Site, strconv.Itoa(n)))
				if err != nil {
					return nil, err
				}
				tag = strings.Trim(tag, "-_.") // where a word of the pattern was empty
				_, taken := used[tag]
				if !taken {
					set["tag"] = tag
					used[tag] = -1
					n++
					break
				}
				if q.First > 0 {
					return nil, fmt.Errorf("%s is already in the plan; begin with another number", tag)
				}
				if n++; n > 2*MaxEntries {
					return nil, fmt.Errorf("the pattern %q gives the same tag over and over; it needs {n}", q.Pattern)
				}
			}
			if set["address"], err = addresses.next(); err != nil {
				return nil, err
			}
			patches = append(patches, Patch{Set: set})
		}
	}
	return patches, nil
}

// series gives ascending addresses that are free.
type series struct {
	pool *pool
	in   address.Range // the zero Range: leave it to the plan
	at   netip.Addr
}

func newSeries(text string, pool *pool) (*series, error) {
	s := &series{pool: pool}
	if text == "" || text == Next {
		return s, nil
	}
	r, err := address.ParseRange(text)
	if err != nil {
		return nil, err
	}
	n := pool.site.SubnetOf(r.From)
	if !n.Prefix.IsValid() {
		return nil, fmt.Errorf("%s is outside every subnet of the site", r.From)
	}
	if !strings.Contains(text, "-") { // only a beginning
		r.To = address.Hosts(n.Prefix).To
	}
	if strings.Contains(text, "-") && pool.site.SubnetOf(r.To).Prefix != n.Prefix {
		return nil, fmt.Errorf("%s is not within one subnet of the site", r)
	}
	s.in, s.at = r, r.From
	return s, nil
}

func (s *series) next() (string, error) {
	if !s.in.From.IsValid() {
		return Next, nil
	}
	for ; s.in.Contains(s.at); s.at = s.at.Next() {
		if code, _ := s.pool.reserved(s.pool.site.SubnetOf(s.at), s.at); code == "" && !s.pool.taken[s.at] {
			s.pool.taken[s.at] = true
			return s.at.String(), nil
		}
	}
	return "", fmt.Errorf("no free address is left in %s; give a larger range, or fewer entries", s.in)
}
