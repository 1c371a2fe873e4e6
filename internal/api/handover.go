package api

import (
	"time"
)

// Document is one that a site can be handed over with.
type Document struct {
	Name string `json:"name"`
	Says string `json:"says"`
	File string `json:"file"` // usual name of its file
}

// Column is one that a register can have.
type Column struct {
	Key   string `json:"key"`
	Says  string `json:"says"`  // its heading, in English
	Usual bool   `json:"usual"` // it is there where none were chosen
}

// Documents that are made besides those of the list.
const (
	LabelsDocument = "labels"
	SheetsDocument = "sheets" // one for each of the tags
)

// ToMake says which document is made.
type ToMake struct {
	Document string        `json:"document" jsonschema:"required"`
	Tags     []string      `json:"tags,omitempty"`   // of the entries that labels or sheets are for
	Labels   *LabelOptions `json:"labels,omitempty"` // of labels
}

// ForTaker says which document is handed over, and to whom.
type ForTaker struct {
	ToMake
	To string `json:"to" jsonschema:"required"`
}

// Handover is something that was handed over.
type Handover struct {
	ID     int64     `json:"id"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	To     string    `json:"to"`
	What   string    `json:"what"`
	SHA256 string    `json:"sha256"` // of the file
}

// Since is what is not as it was when something was handed over.
type Since struct {
	Handover    Handover     `json:"handover"`
	Differences []Difference `json:"differences"`
}

// Capture is the packets of a run or a verification that kept them.
type Capture struct {
	ID   int64     `json:"id"`
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	What string    `json:"what"`
}

// PacketsFor says of which entries packets are handed over, of all without, and for whom they
// are sealed.
type PacketsFor struct {
	SealTo
	Tags []string `json:"tags,omitempty"`
}

// Lookout is when the service looks by itself whether a site is as it was.
type Lookout struct {
	At   string   `json:"at" jsonschema:"required"` // time of day at the site, as 02:30
	Days []string `json:"days,omitempty"`           // mon to sun; every day without
	Tags []string `json:"tags,omitempty"`           // entries that are looked at; all that are set without
	Hook string   `json:"hook,omitempty"`           // where it is told what changed
	Pace int      `json:"pace,omitempty"`           // frames per second that ask who is there; gentle without
}

// LookoutView is a lookout with what it found.
type LookoutView struct {
	On      bool `json:"on"`
	Looking bool `json:"looking"` // right now, or next
	Lookout
	Next     time.Time    `json:"next,omitzero"`
	LookedAt time.Time    `json:"lookedAt,omitzero"`
	Against  string       `json:"against"` // what it is compared with, in words
	Changed  []Difference `json:"changed"` // what is not as it was
	Wrong    string       `json:"wrong,omitempty"`
}

// Difference is one value that is not what it was when something was handed over.
type Difference struct {
	Tag    string `json:"tag"`
	Column string `json:"column"` // its heading; "" for the entry as a whole
	Was    string `json:"was"`
	Is     string `json:"is"`
}

// Preview is what a document shows before anybody gets it: what is in the file itself.
type Preview struct {
	// Kind is pages for a PDF, page for HTML and drawing for SVG, which whoever shows them draws;
	// sheets, files and lines have what they hold below.
	Kind   string         `json:"kind" jsonschema:"enum=pages,enum=page,enum=drawing,enum=sheets,enum=files,enum=lines"`
	Sheets []PreviewSheet `json:"sheets,omitempty"`
	Files  []PreviewFile  `json:"files,omitempty"`
	Lines  []string       `json:"lines,omitempty"`
	More   bool           `json:"more"` // lines than these
}

// PreviewSheet is the beginning of a sheet of a workbook.
type PreviewSheet struct {
	Name string          `json:"name"`
	Rows [][]PreviewCell `json:"rows"`
	More bool            `json:"more"` // rows than these
}

// PreviewCell is a cell of a workbook: heading as headings are, slanted as what was not verified.
type PreviewCell struct {
	Text    string `json:"text"`
	Heading bool   `json:"heading,omitempty"`
	Slanted bool   `json:"slanted,omitempty"`
}

// PreviewFile is a file of an archive.
type PreviewFile struct {
	Name string `json:"name"`
	Size uint64 `json:"size"` // bytes
}
