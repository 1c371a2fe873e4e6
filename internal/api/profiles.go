package api

// Broken is a file of the profile folder that cannot be used.
type Broken struct {
	File   string `json:"file"`
	Reason string `json:"reason"`
}
