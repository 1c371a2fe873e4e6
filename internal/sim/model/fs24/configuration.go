package fs24

import (
	"encoding/json"
	"net/http"
	"net/netip"

	"redstart/internal/sim/box"
)

// saved is what a configuration holds, as text: name and address of the switch that it is of,
// and all settings but its password and its SNMP community.
type saved struct {
	Model   string
	Name    string
	Address netip.Prefix
	Gateway netip.Addr
	Own     Own
}

func configuration(b *box.Box) any {
	s := b.Saved()
	own, _ := s.Own.(Own) // a fresh one has none
	own.Community, own.SNMPWrite, own.Loaded = "", "", false
	text, _ := json.MarshalIndent(saved{b.Model.Name, s.Name, s.Address, s.Gateway, own}, "", " ") // it is ours
	return map[string]string{"text": string(text)}
}

// load takes a sibling's configuration: it restarts, and is then at the sibling's address.
func load(b *box.Box, w http.ResponseWriter, r *http.Request) error {
	body, err := read(r, "fennmark-switch:input")
	if err != nil {
		return err
	}
	in, err := into[struct {
		Text string `json:"text"`
	}](body, "/fennmark-switch:load-configuration")
	if err != nil {
		return err
	}
	var c saved
	if err := json.Unmarshal([]byte(in.Text), &c); err != nil || c.Model != b.Model.Name {
		return refuse(http.StatusBadRequest, "invalid-value", "", "this is no configuration of an FS24")
	}
	b.Witness("write", "configuration of "+c.Name)
	b.Store(func(s *box.Settings) {
		mine, _ := s.Own.(Own)
		c.Own.Community, c.Own.SNMPWrite, c.Own.Loaded = mine.Community, mine.SNMPWrite, true
		s.Name, s.Address, s.Gateway, s.Own = c.Name, c.Address, c.Gateway, c.Own
	})
	w.WriteHeader(http.StatusNoContent)
	b.RestartSoon(r)
	return nil
}
