package api

import (
	"redstart/internal/core/address"
	"redstart/internal/core/notice"
	"redstart/internal/core/plan"
)

// Changes are what is not as it was told last of a site: each whole as it is now, so that taking
// them in twice does no harm. What is left out is as it was.
type Changes struct {
	Entries []EntryView `json:"entries,omitempty"`
	// Order lists all tags as the plan has them now, where entries came, went or moved.
	Order   []string      `json:"order,omitempty"`
	Devices []DeviceView  `json:"devices,omitempty"`
	Gone    []address.MAC `json:"gone,omitempty"` // devices that were forgotten
	// Findings are those of the plan, by tag, where they changed; "" are those of the site itself.
	Findings map[string][]plan.Finding `json:"findings,omitempty"`
	// Segment are the findings of the segment, all of them.
	Segment *[]notice.Notice `json:"segment,omitempty"`
	// Matches says that what is proposed may have changed: whoever shows it asks for it.
	Matches bool `json:"matches,omitempty"`
	// Empty says that the plan has no entry any more.
	Empty bool `json:"empty,omitempty"`
}
