package day

import (
	"fmt"
	"time"
	_ "time/tzdata" // so that a machine without it knows the same zones
)

// A Zone is where an organization is, which decides on which day a moment is, on whatever machine that is asked. The
// zero Zone is UTC.
type Zone struct{ at *time.Location }

// ZoneOf is the zone of a name, as the IANA Time Zone Database has it (RFC 6557): Europe/Oslo.
func ZoneOf(name string) (Zone, error) {
	if at, err := time.LoadLocation(name); err == nil && name != "" && name != "Local" {
		return Zone{at}, nil
	}
	return Zone{}, fmt.Errorf("%q is no time zone; write it like Europe/Oslo or UTC", name)
}

func (z Zone) location() *time.Location {
	if z.at == nil {
		return time.UTC
	}
	return z.at
}

// Day is the day on which a moment is.
func (z Zone) Day(t time.Time) Day { return Of(t.In(z.location())) }

// DayOf is the day on which a moment is, written as RFC 3339 has it.
func (z Zone) DayOf(at string) (Day, error) {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return None, fmt.Errorf("%q is no time; it is expected as RFC 3339 has it", at)
	}
	return z.Day(t), nil
}

// End is the moment at which a day is over.
func (z Zone) End(d Day) time.Time {
	next := (d + 1).Time()
	return time.Date(next.Year(), next.Month(), next.Day(), 0, 0, 0, 0, z.location())
}

// Minute writes a moment to the minute, with its zone.
func (z Zone) Minute(t time.Time) string { return t.In(z.location()).Format("2006-01-02 15:04 MST") }

// MinuteOf writes a moment that is written as RFC 3339 has it; what is none stays as it is.
func (z Zone) MinuteOf(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return z.Minute(t)
}

func (z Zone) String() string { return z.location().String() }
