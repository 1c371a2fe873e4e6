package driver_test

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/sim/skerry"
	"redstart/profiles"
)

// A conversation is with one box by its MAC, whoever else has its address; its profile says in
// which words.
func ExampleClient_Do() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	site := skerry.Start(skerry.Options{Devices: 2, Only: "C20", Pace: 0.001}) // two cameras with one factory address
	defer site.Close()
	b := bench.New(site.Attach())
	defer b.Close()
	set, _, err := profiles.Load("")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, box := range site.Boxes {
		client := driver.New(b, driver.Target{MAC: box.MAC, Address: netip.MustParseAddr("192.168.77.20"), Bits: 24, Profile: set["ovalis-c20"]})
		facts, err := client.Do(ctx, profile.Identify, nil)
		fmt.Println(facts["model"], facts["serial"] == box.Serial, err)
		client.Close()
	}
	// Output:
	// C20 true <nil>
	// C20 true <nil>
}
