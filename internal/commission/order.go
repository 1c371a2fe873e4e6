package commission

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/plan"
)

// order is what comes after what among the devices of a run: by tag, the tags of those
// that are done before. There is no circle in it.
type order map[string][]string

// orderOf takes it out of the plan for the devices that are in a run. What would close a
// circle is left out: the plan refuses circles, but may have changed since the run began.
func orderOf(p plan.Plan, in map[string]bool) order {
	o := order{}
	for _, e := range p.Entries {
		if !in[e.Tag] {
			continue
		}
		for _, before := range p.Before(e) {
			if in[before] && before != e.Tag && !o.leadsTo(before, e.Tag) && !slices.Contains(o[e.Tag], before) {
				o[e.Tag] = append(o[e.Tag], before)
			}
		}
	}
	return o
}

// leadsTo reports whether a tag comes after another, at any distance.
func (o order) leadsTo(tag, other string) bool {
	seen := map[string]bool{}
	var look func(string) bool
	look = func(at string) bool {
		if at == other {
			return true
		}
		if seen[at] {
			return false
		}
		seen[at] = true
		return slices.ContainsFunc(o[at], look)
	}
	return look(tag)
}

// longest is how long the longest chain takes, when each device takes what is given.
func (o order) longest(takes map[string]time.Duration) time.Duration {
	ends := map[string]time.Duration{}
	var end func(string) time.Duration
	end = func(tag string) time.Duration {
		if t, ok := ends[tag]; ok {
			return t
		}
		var begins time.Duration
		for _, before := range o[tag] {
			begins = max(begins, end(before))
		}
		ends[tag] = begins + takes[tag]
		return ends[tag]
	}
	var whole time.Duration
	for _, tag := range slices.Sorted(maps.Keys(takes)) {
		whole = max(whole, end(tag))
	}
	return whole
}

// arrange leaves out the devices that come after one which is neither set nor in the
// run, and notes what the others come after.
func arrange(r *api.Rehearsal, p plan.Plan, known Known) {
	after := map[string][]string{}
	for _, e := range p.Entries {
		after[e.Tag] = p.Before(e)
	}
	for more := true; more; {
		in := tagsOf(r)
		n := len(r.Devices)
		r.Devices = slices.DeleteFunc(r.Devices, func(d api.Rehearsed) bool {
			i := slices.IndexFunc(after[d.Tag], func(before string) bool { return !in[before] && !known.Set[before] })
			if i < 0 {
				return false
			}
			before := after[d.Tag][i]
			r.Left = append(r.Left,
				api.LeftOut{Tag: d.Tag, Why: fmt.Sprintf("it comes after %s, which is not set yet; set that first, or let it come after nothing (after=none)", before)})
			return true
		})
		more = len(r.Devices) < n
	}
	o := orderOf(p, tagsOf(r))
	takes := map[string]time.Duration{}
	for i, d := range r.Devices {
		r.Devices[i].After = o[d.Tag]
		takes[d.Tag] = time.Duration(d.Seconds * float64(time.Second))
	}
	r.Seconds = o.longest(takes).Seconds()
}

func tagsOf(r *api.Rehearsal) map[string]bool {
	in := map[string]bool{}
	for _, d := range r.Devices {
		in[d.Tag] = true
	}
	return in
}

// outcomes are how the devices of a run ended so far, for those that come after them.
type outcomes map[string]*outcome

// outcome is how one device ended.
type outcome struct {
	ended chan struct{} // closes when it has
	good  bool          // read after that
}

func (o outcomes) end(tag string, good bool) {
	o[tag].good = good
	close(o[tag].ended)
}

// heldBack is why a device is not begun: one that it comes after was not set.
func heldBack(by string) string {
	return fmt.Sprintf("it comes after %s, which was not set. Nothing was sent to it. Mend that, then commission both again.", by)
}

func waitsFor(tags []string) string { return "waits for " + strings.Join(tags, ", ") }
