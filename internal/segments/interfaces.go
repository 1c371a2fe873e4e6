package segments

import (
	"context"
	"fmt"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/lan/nic"
	"redstart/internal/survey"
)

// longestListen bounds how long interfaces are listened to.
const longestListen = 30 * time.Second

// Interfaces lists the computer's interfaces and listens to each for a while; it
// sends nothing.
func (s *Segments) Interfaces(ctx context.Context, listen time.Duration) ([]api.InterfaceView, error) {
	list, err := nic.List()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, min(listen, longestListen))
	defer cancel()
	views := make([]api.InterfaceView, len(list))
	var all sync.WaitGroup
	for i, n := range list {
		views[i] = api.InterfaceView{Interface: api.Interface(n), Warnings: []string{}, InUse: s.named(n.Name) != nil}
		if !n.Up || listen <= 0 {
			continue
		}
		p, err := nic.Open(n.Name, false)
		if err != nil {
			views[i].Warnings = append(views[i].Warnings, err.Error())
			continue
		}
		all.Add(1)
		go func() {
			defer all.Done()
			h := api.Hearing(survey.Hear(ctx, p))
			views[i].Hears = &h
		}()
	}
	all.Wait()
	for i := range views {
		views[i].Warnings = append(views[i].Warnings, warnings(views[i])...)
	}
	return views, nil
}

// warnings say what speaks against an interface.
func warnings(v api.InterfaceView) (list []string) {
	if !v.Up {
		return []string{"it is switched off: ip link set " + v.Name + " up"}
	}
	if !v.Link {
		list = append(list, "no link: check the cable")
	}
	if v.Wireless {
		list = append(list,
			"it is wireless: boxes on a cable are not behind it, and many access points drop what finding needs")
	}
	if v.DefaultRoute {
		list = append(list,
			"the computer's way to the rest of the world goes by it: it is likely the office network, not the boxes'")
	}
	if h := v.Hears; h != nil {
		if h.Storm {
			list = append(list, fmt.Sprintf("a storm: %.0f broadcasts a second; look for a loop before anything else",
				h.Broadcasts))
		}
		if len(h.Servers) > 0 {
			list = append(list, fmt.Sprintf("a DHCP server answers there: %s", h.Servers[0]))
		}
	}
	return list
}
