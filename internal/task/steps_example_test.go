package task_test

import (
	"fmt"
	"net/netip"

	"redstart/internal/core/procedure"
	"redstart/internal/task"
	"redstart/profiles"
)

// What a run will do with a device follows from its profile, and is told before anything is sent.
func ExampleSteps() {
	set, _, err := profiles.Load("")
	if err != nil {
		fmt.Println(err)
		return
	}
	planned := procedure.Values{Name: "quay-cam-01", User: "operator", Login: "each 16", Address: netip.MustParsePrefix("10.40.8.30/22")}
	for _, s := range task.Steps(set["ovalis-c20"], planned, procedure.Login{}) {
		fmt.Println(s.Name)
	}
	// Output:
	// reach
	// confirm
	// password
	// name
	// time
	// settings
	// address
	// return after address
}
