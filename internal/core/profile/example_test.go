package profile_test

import (
	"fmt"

	"redstart/internal/core/profile"
)

// A setting that is a table is text in the plan, and rows wherever somebody works with it.
func ExampleParseRows() {
	rows, err := profile.ParseRows(`[{"port":"1","role":"uplink"},{"port":"2","role":"camera"}]`)
	if err != nil {
		fmt.Println(err)
		return
	}
	rows[1]["role"] = "spare"
	fmt.Println(profile.RowsText(rows))
	// Output: [{"port":"1","role":"uplink"},{"port":"2","role":"spare"}]
}
