package api

// Coming is a site that came in a file: what it holds, what stands in the way, and what is worth
// a word.
type Coming struct {
	Name      string   `json:"name"`
	Key       string   `json:"key"`
	Entries   int      `json:"entries"`
	Devices   int      `json:"devices"`
	Logins    int      `json:"logins"`
	Files     int      `json:"files"`
	Conflicts []string `json:"conflicts"`
	Notes     []string `json:"notes"`
}
