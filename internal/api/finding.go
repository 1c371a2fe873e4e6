package api

import (
	"net/netip"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/notice"
	"redstart/internal/core/stamp"
)

// FindOptions shape a survey.
type FindOptions struct {
	Pace int `json:"pace"` // frames per second; 0: normal
	// ask nothing that makes anybody keep something in mind, and hold no conversation
	LookOnly bool     `json:"lookOnly"`
	Ranges   []string `json:"ranges"`  // to sweep besides the plan: 10.0.0.0/16, 10.0.0.1-10.0.0.99
	Capture  bool     `json:"capture"` // keep the packets
}

// DeviceView is a found device with the entry that it is.
type DeviceView struct {
	*device.Found
	Tag string `json:"tag"`
	Whereabouts
	Kind   string `json:"kind"`   // of its profile
	Blinks bool   `json:"blinks"` // it can be made to show itself
	Waits  bool   `json:"waits"`  // it waits for an address over DHCP
	Page   bool   `json:"page"`   // it may have a page to open
	// PartTags are the entries that it tells of behind it, by its name for them.
	PartTags map[string]string `json:"partTags,omitempty"`
	// Contradictions are what protocols tell differently of it.
	Contradictions []device.Contradiction `json:"contradictions,omitempty"`
}

// whereabouts are where a device is, as far as the last survey or the watch knows.
// What was told before that is never called present.
type Whereabouts struct {
	Here bool       `json:"here"`    // it is on the segment
	Now  netip.Addr `json:"present"` // its address now; "" for none, or not known
	// the address that it told last, at WasAt; "" once it told that it has none
	Was   netip.Addr `json:"lastAddress"`
	WasAt stamp.Time `json:"lastAddressAt"` // when that was
}

// Segment is everything found on the segment and what a person should know of it.
type Segment struct {
	Name     string          `json:"name"`    // what the service is plugged into; "" for nothing
	Sent     uint64          `json:"sent"`    // frames that we put on it since the service started
	Dropped  uint64          `json:"dropped"` // frames that came faster than we could take them
	Watched  bool            `json:"watched"`
	Surveyed bool            `json:"surveyed"` // a whole survey was made
	LookOnly bool            `json:"lookOnly"`
	Dark     bool            `json:"dark"` // it has no link now
	Devices  []DeviceView    `json:"devices"`
	Arrivals []Presence      `json:"arrivals"` // as the watch heard them, the latest first
	Findings []notice.Notice `json:"findings"`
}

// Choice is the profile that a person says a device has; "" takes the choice back.
type Choice struct {
	Profile string `json:"profile" jsonschema:"required"`
}

// Macs chooses found devices.
type Macs struct {
	MACs []address.MAC `json:"macs" jsonschema:"required"`
}

// Presence is somebody coming or going.
type Presence struct {
	// arrived, returned, told, departed
	Kind   string     `json:"kind" jsonschema:"enum=arrived,enum=returned,enum=learned,enum=departed"`
	Device DeviceView `json:"device"`
	At     time.Time  `json:"at"`
}

// Watching is whether the segment is watched.
type Watching struct {
	On bool `json:"on" jsonschema:"required"`
}

// HandOut chooses the matched entries whose boxes are given their planned
// addresses over DHCP; All means all whose boxes wait for one.
type HandOut struct {
	Chosen
	OtherServers []netip.Addr `json:"otherServers"` // other DHCP servers that may go on
	Seconds      int          `json:"seconds"`      // to wait for boxes to ask; 0: three minutes
}

// Asker is a box that waits for an address over DHCP.
type Asker struct {
	MAC     address.MAC `json:"mac"`
	Host    string      `json:"host"`
	Class   string      `json:"class"`
	Profile string      `json:"profile"`
	Tag     string      `json:"tag"` // "" : match it first
	Last    time.Time   `json:"last"`
}

// PageView is where a box's own page is to be seen.
type PageView struct {
	URL string `json:"url"` // good for one opening
}

// SegmentView is one segment that the service is on.
type SegmentView struct {
	Name  string   `json:"name"`
	Here  bool     `json:"here"` // false: it went away, and is waited for
	Dark  bool     `json:"dark"` // it has no link
	Sites []string `json:"sites"`
}

// Interface is one Ethernet interface of the computer.
type Interface struct {
	Name         string         `json:"name"`
	MAC          address.MAC    `json:"mac"`
	Up           bool           `json:"up"`
	Link         bool           `json:"link"`  // a cable with somebody at its other end
	Speed        int            `json:"speed"` // Mbit/s; 0: unknown
	Wireless     bool           `json:"wireless"`
	Virtual      bool           `json:"virtual"`      // no hardware behind it
	DefaultRoute bool           `json:"defaultRoute"` // the computer reaches the rest of the world by it
	Addresses    []netip.Prefix `json:"addresses"`    // the computer's own
}

// Hearing is what an interface hears when nothing is sent.
type Hearing struct {
	Frames     int            `json:"frames"`
	Senders    int            `json:"senders"`
	Broadcasts float64        `json:"broadcasts"` // a second
	Storm      bool           `json:"storm"`
	Subnets    []netip.Prefix `json:"subnets"` // /24s of the addresses heard
	Servers    []netip.Addr   `json:"servers"` // that hand out addresses over DHCP
}

// InterfaceView is one interface of the computer, with what it hears and what
// speaks against using it.
type InterfaceView struct {
	Interface
	Hears    *Hearing `json:"hears"` // nil when it cannot be listened to
	Warnings []string `json:"warnings"`
	InUse    bool     `json:"inUse"`
}

// Plugged names the segment that a site is to use: an interface, or a virtual LAN on one.
type Plugged struct {
	Interface string `json:"interface" jsonschema:"required"`
}

// Survey is one survey with what it changed.
type Survey struct {
	ID       int64           `json:"id"`
	Began    stamp.Time      `json:"began"`
	Ended    stamp.Time      `json:"ended"`
	Who      string          `json:"who"`
	Pace     int             `json:"pace"` // frames per second
	State    string          `json:"state"`
	Found    int             `json:"found"`
	Believed int             `json:"believed"` // how many there are, as it judged
	Passes   []int           `json:"passes"`   // heard in each pass
	Changes  []device.Change `json:"changes"`  // since the survey before
	Capture  string          `json:"capture"`  // file name of its packet capture; "" for none
}
