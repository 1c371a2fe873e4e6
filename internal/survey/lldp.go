package survey

import (
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/lldp"
)

// lldpProber listens to what neighbours say of themselves (IEEE 802.1AB). A
// switch names the port that we hang on.
var lldpProber = prober{
	protocol: "lldp",
	read: func(h *heard) []device.Sighting {
		if h.Type != ethernet.TypeLLDP {
			return nil
		}
		u, err := lldp.Parse(h.Payload)
		if err != nil {
			return nil
		}
		list := append([]device.Sighting{h.told(fact.Name, u.System, fact.Description, u.Description, fact.Port,
			u.Port)}, h.also(fact.Ability, u.Capabilities...)...)
		for _, a := range u.Management {
			list = append(list, h.told(fact.Address, text(a)))
		}
		return list
	},
}
