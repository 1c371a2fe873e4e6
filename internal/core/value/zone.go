package value

import (
	"fmt"
	"strings"
	"time"
)

// POSIXZone writes a zone of the IANA database by its rules as they are this year (IEEE
// 1003.1, 8.3, TZ): "CET-1CEST,M3.5.0,M10.5.0/3". "" stands for one that is unknown.
func POSIXZone(name string) string {
	zone, err := time.LoadLocation(name)
	if err != nil || name == "" {
		return ""
	}
	return posixZone(zone, time.Now().Year())
}

func posixZone(zone *time.Location, year int) string {
	first := time.Date(year, 1, 1, 12, 0, 0, 0, zone)
	_, change := first.ZoneBounds()
	if change.IsZero() || change.Year() > year {
		return abbreviation(first) + offset(first)
	}
	_, back := change.ZoneBounds()
	summer, winter := change, back
	if !change.IsDST() { // the southern half of the world
		summer, winter = back, change
	}
	return abbreviation(winter) + offset(winter) + abbreviation(summer) + "," + rule(summer, zone) + "," +
		rule(winter, zone)
}

// abbreviation is the name of a moment's zone; those that are none are put in brackets.
func abbreviation(at time.Time) string {
	name, _ := at.Zone()
	if strings.ContainsAny(name, "+-0123456789") {
		return "<" + name + ">"
	}
	return name
}

// offset is what is added to local time to give UTC, in hours.
func offset(at time.Time) string {
	_, east := at.Zone()
	text := fmt.Sprint(-east / 3600)
	if minutes := east % 3600 / 60; minutes != 0 {
		text += fmt.Sprintf(":%02d", max(minutes, -minutes))
	}
	return text
}

// rule says when a change comes: month, week and day, and the hour of the clock before it if
// that is not two.
func rule(change time.Time, zone *time.Location) string {
	before := change.Add(-time.Second).In(zone)
	_, east := before.Zone()
	at := change.UTC().Add(time.Duration(east) * time.Second) // as the clock before it would show
	week := (at.Day()-1)/7 + 1
	if at.AddDate(0, 0, 7).Month() != at.Month() {
		week = 5 // the last one
	}
	text := fmt.Sprintf("M%d.%d.%d", at.Month(), week, at.Weekday())
	if at.Hour() != 2 || at.Minute() != 0 {
		text += fmt.Sprintf("/%d", at.Hour())
		if at.Minute() != 0 {
			text += fmt.Sprintf(":%02d", at.Minute())
		}
	}
	return text
}
