package show

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"time"

	ics "github.com/arran4/golang-ical"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// Falling writes what falls due, day by day.
func (p *Printer) Falling(list []access.Falling, to day.Day) {
	if len(list) == 0 {
		p.Linef("Nothing falls due until %s.", to)
		return
	}
	for i := range list {
		x := &list[i]
		if i == 0 || list[i-1].On != x.On {
			if i > 0 {
				p.Line()
			}
			d, err := day.Parse(x.On)
			if err == nil {
				p.Line(Strong(x.On) + "  " + Dim(d.Time().Weekday().String()))
			}
		}
		p.wrapped("  ", words.Clean(x.Says), nil)
	}
	p.Line()
	p.Line(Dim(fmt.Sprintf("%s until %s.", model.Count(len(list), "thing falls due", "things fall due"), to)))
}

// FallingTable is what falls due as a table.
func FallingTable(list []access.Falling) *Table {
	return tableOf(list, both("on", "kind", "app", "person", "says", "file", "line"), func(x *access.Falling) []any {
		return []any{x.On, string(x.Kind), x.App, x.Person, x.Says, x.File, line(x.Line)}
	})
}

// Calendar writes what falls due as a calendar (RFC 5545): an event of a whole day for
// each. The same thing on the same day has the same UID each time.
func Calendar(w io.Writer, list []access.Falling, name string, now time.Time) error {
	cal := ics.NewCalendarFor("Pravet")
	cal.SetMethod(ics.MethodPublish)
	cal.SetXWRCalName(words.Clean(name))
	for i := range list {
		x := &list[i]
		d, err := day.Parse(x.On)
		if err != nil {
			return err
		}
		sum := sha256.Sum256([]byte(x.On + "\n" + x.Says))
		event := cal.AddEvent(hex.EncodeToString(sum[:12]) + "@pravet.example")
		event.SetDtStampTime(now.UTC())
		event.SetAllDayStartAt(d.Time())
		event.SetAllDayEndAt((d + 1).Time())
		event.SetSummary(words.Clean(x.Says))
		event.SetProperty(ics.ComponentPropertyTransp, "TRANSPARENT")
		if x.File != "" {
			event.SetDescription(fmt.Sprintf("%s:%d", words.Clean(x.File), x.Line))
		}
	}
	return cal.SerializeTo(w, ics.WithNewLineWindows) // RFC 5545, section 3.1
}
