package check

import (
	"maps"
	"slices"
)

// byHand looks at settings that no act of the profile sends, as far as the device tells them.
var byHand = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, key := range slices.Sorted(maps.Keys(s.Given.ByHand)) {
			list = append(list, Want{Name: key, Expected: s.Given.SetByHand(s.Profile, key), Key: "setting." + key})
		}
		return list
	},
	Look: readBack,
}
