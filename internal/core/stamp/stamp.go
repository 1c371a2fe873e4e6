// Package stamp is moments as they are kept and told: to the microsecond, and none at all as such.
package stamp

import (
	"database/sql/driver"
	"fmt"
	"time"
)

// Time is a time that is stored in microseconds; the zero Time is stored as
// 0 and printed as null.
type Time struct{ time.Time }

// Now is the present moment, as precise as it is stored.
func Now() Time { return Time{time.Now().UTC().Truncate(time.Microsecond)} }

// Value implements driver.Valuer.
func (s Time) Value() (driver.Value, error) {
	if s.IsZero() {
		return int64(0), nil
	}
	return s.UnixMicro(), nil
}

// Scan implements sql.Scanner.
func (s *Time) Scan(v any) error {
	n, ok := v.(int64)
	if !ok {
		return fmt.Errorf("a time is stored as a number, not as %T", v)
	}
	s.Time = time.Time{}
	if n != 0 {
		s.Time = time.UnixMicro(n).UTC()
	}
	return nil
}

// MarshalJSON prints RFC 3339, or null.
func (s Time) MarshalJSON() ([]byte, error) {
	if s.IsZero() {
		return []byte("null"), nil
	}
	return s.Time.MarshalJSON()
}

// UnmarshalJSON reads what MarshalJSON printed.
func (s *Time) UnmarshalJSON(b []byte) error {
	if string(b) == "null" {
		*s = Time{}
		return nil
	}
	return s.Time.UnmarshalJSON(b)
}
