package jobs

import (
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
)

// Whoever was not heard in a flood is not called gone, and not called new by the next survey.
func TestNobodyLeavesInAFlood(t *testing.T) {
	t.Parallel()
	here := func(last ...byte) (list []device.Seen) {
		for _, b := range last {
			list = append(list, device.Seen{MAC: address.MAC{2, 0, 0, 0, 0, b}})
		}
		return list
	}
	flooded := withUnheard(here(1, 2, 3), here(2, 4))
	if c := device.Changes(here(1, 2, 3), flooded); len(c) != 1 || c[0].Kind != device.Came || c[0].MAC != (address.MAC{2, 0, 0, 0, 0, 4}) {
		t.Errorf("%+v", c)
	}
	if c := device.Changes(flooded, here(1, 2, 3, 4)); len(c) != 0 {
		t.Errorf("after it: %+v", c)
	}
}
