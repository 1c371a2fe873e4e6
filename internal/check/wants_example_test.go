package check_test

import (
	"fmt"
	"net/netip"

	"redstart/internal/check"
	"redstart/internal/core/address"
	"redstart/internal/core/procedure"
	"redstart/profiles"
)

// A check says what should be so before it looks; one that does not apply says nothing.
func ExampleCheck() {
	set, _, err := profiles.Load("")
	if err != nil {
		fmt.Println(err)
		return
	}
	camera := check.Subject{MAC: address.MAC{0x0a, 0x4f, 0x56, 0, 0, 1}, Address: netip.MustParseAddr("10.40.8.30"), Profile: set["ovalis-c20"],
		Given: procedure.Values{Name: "quay-cam-01", Address: netip.MustParsePrefix("10.40.8.30/22")}}
	for _, c := range check.All[:2] {
		for _, w := range c.Wants(camera) {
			fmt.Println(w.Name+":", w.Expected)
		}
	}
	// Output: address held by: 0a:4f:56:00:00:01
	// factory address: given up
}
