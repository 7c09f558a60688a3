// Package day counts in whole days. Plans are drafted for a day, people start
// and end on days, and decisions last until a day; nothing in Pravet needs an
// hour, so nothing in the core can depend on a time zone.
package day

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Day is a calendar day, as a count of days since 1970-01-01. None is the
// absence of a day.
type Day int32

// None is no day at all; it is before every real day.
const None Day = -1 << 31

// Of returns the calendar day of t in t's own time zone.
func Of(t time.Time) Day {
	y, m, d := t.Date()
	return Day(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// Parse reads an ISO 8601 calendar date, YYYY-MM-DD, and nothing else.
func Parse(s string) (Day, error) {
	t, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return None, fmt.Errorf("%q is not a date; write it as YYYY-MM-DD, for example 2027-01-31", s)
	}
	return fromUTC(t), nil
}

// ParseLoose reads the day of a date or of a date with a time after it
// ("2026-11-01T10:00:00Z"), as applications write them. The zone is not read.
func ParseLoose(s string) (Day, bool) {
	if len(s) > 10 && (s[10] == 'T' || s[10] == ' ') {
		s = s[:10]
	}
	if len(s) != 10 {
		return None, false
	}
	d, err := Parse(s)
	return d, err == nil
}

func fromUTC(t time.Time) Day {
	s := t.Unix()
	if s < 0 && s%86400 != 0 {
		s -= 86400
	}
	return Day(s / 86400)
}

// Time is midnight UTC at the start of the day.
func (d Day) Time() time.Time { return time.Unix(int64(d)*86400, 0).UTC() }

// String writes the day as YYYY-MM-DD, and None as nothing.
func (d Day) String() string {
	if d == None {
		return ""
	}
	return d.Time().Format(time.DateOnly)
}

// Duration is an ISO 8601 duration in calendar units: years, months, weeks
// and days, all with one sign.
type Duration struct {
	Months int
	Days   int
}

// String writes a duration as ISO 8601 has it.
func (p Duration) String() string {
	sign := ""
	if p.Months < 0 || p.Days < 0 {
		sign, p = "-", Duration{-p.Months, -p.Days}
	}
	out := sign + "P"
	for _, x := range []struct {
		n    int
		unit string
	}{{p.Months / 12, "Y"}, {p.Months % 12, "M"}, {p.Days, "D"}} {
		if x.n != 0 {
			out += strconv.Itoa(x.n) + x.unit
		}
	}
	if strings.HasSuffix(out, "P") {
		out += "0D"
	}
	return out
}

// Words writes a duration in words: 1 month and 3 days.
func (p Duration) Words() string {
	var parts []string
	for _, x := range []struct {
		n         int
		one, many string
	}{{p.Months / 12, "year", "years"}, {p.Months % 12, "month", "months"}, {p.Days, "day", "days"}} {
		switch x.n {
		case 0:
		case 1:
			parts = append(parts, "1 "+x.one)
		default:
			parts = append(parts, strconv.Itoa(x.n)+" "+x.many)
		}
	}
	switch len(parts) {
	case 0:
		return "0 days"
	case 1:
		return parts[0]
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}

// LooksLikeDuration reports whether s is meant as an ISO 8601 duration.
func LooksLikeDuration(s string) bool {
	s = strings.TrimLeft(s, "+-")
	return len(s) > 1 && (s[0] == 'P' || s[0] == 'p') && s[1] >= '0' && s[1] <= '9'
}

// ParseDuration reads an ISO 8601 duration in days or longer, such as P30D,
// -P1Y6M or P2W. Times of day are refused: plans are drafted for days.
func ParseDuration(s string) (Duration, error) {
	fail := func(why string) (Duration, error) {
		return Duration{}, fmt.Errorf(
			"%q is not a duration in days, weeks, months or years (%s); for example P30D, P2W, P1Y6M",
			s,
			why,
		)
	}
	rest, sign := s, 1
	switch {
	case strings.HasPrefix(rest, "-"):
		rest, sign = rest[1:], -1
	case strings.HasPrefix(rest, "+"):
		rest = rest[1:]
	}
	if rest == "" || (rest[0] != 'P' && rest[0] != 'p') {
		return fail("it starts with P")
	}
	rest = rest[1:]
	if rest == "" {
		return fail("nothing follows the P")
	}
	var out Duration
	order := "YMWD"
	for rest != "" {
		if rest[0] == 'T' || rest[0] == 't' {
			return fail("hours and minutes are not counted")
		}
		n := 0
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			n++
		}
		if n == 0 || n == len(rest) {
			return fail("a number and one of Y, M, W, D are expected")
		}
		v, err := strconv.Atoi(rest[:n])
		if err != nil || v > 100000 {
			return fail("the number is too large")
		}
		unit := strings.ToUpper(rest[n : n+1])
		at := strings.Index(order, unit)
		if at < 0 {
			return fail("units come as Y, M, W, D, each once and in that order")
		}
		order = order[at+1:]
		switch unit {
		case "Y":
			out.Months += 12 * v
		case "M":
			out.Months += v
		case "W":
			out.Days += 7 * v
		case "D":
			out.Days += v
		}
		rest = rest[n+1:]
	}
	out.Months *= sign
	out.Days *= sign
	return out, nil
}

// Add counts a duration from d. A month is counted to the same day of the
// month, or to the month's last day where it is shorter (31 January and one
// month is 28 or 29 February).
func (d Day) Add(p Duration) Day {
	t := d.Time()
	if p.Months != 0 {
		y, m, dd := t.Date()
		first := time.Date(y, m+time.Month(p.Months), 1, 0, 0, 0, 0, time.UTC)
		last := first.AddDate(0, 1, -1).Day()
		t = first.AddDate(0, 0, min(dd, last)-1)
	}
	return fromUTC(t) + Day(p.Days)
}

// Back counts a duration backwards from d.
func (d Day) Back(p Duration) Day { return d.Add(Duration{Months: -p.Months, Days: -p.Days}) }

// NextMonth is the first day of the month after the day's.
func (d Day) NextMonth() Day {
	t := d.Time()
	return Of(time.Date(t.Year(), t.Month()+1, 1, 0, 0, 0, 0, time.UTC))
}
