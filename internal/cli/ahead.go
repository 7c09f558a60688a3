package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/show"
)

func (c *program) ahead() *cobra.Command {
	var format, on, span string
	var apps []string
	cmd := &cobra.Command{
		Use:     "ahead",
		Short:   "Say what falls due, day by day",
		GroupID: seeing,
		Long: `Ahead lists what falls due from today on: who starts and whose last day it is,
who goes away and comes back, which accounts are made before a first day, which
steps accounts come to on their way out, also those of people who leave later, what
is held or stands until a day (kits by name, rejections, exceptions, lifted guards,
what is kept), licenses whose seats run short, and what is missing for a license of
somebody who starts.

--for is an ISO 8601 duration, P30D unless given. --format ical writes a calendar
(RFC 5545) that calendar programs can subscribe to or import.`,
		Example: example("pravet ahead", "pravet ahead --for P90D --format csv", "pravet ahead --format ical"),
		Args:    takes(0, 0, "", ""),
	}
	formatFlag(cmd, &format, "table", "json", "csv", "ical")
	f := cmd.Flags()
	f.StringVar(&span, "for", "P30D", "how far to look ahead")
	f.StringSliceVar(&apps, "app", nil, "only this application, and items that concern no application (may be repeated)")
	f.StringVar(&on, "on", "", "look from this day, YYYY-MM-DD (default: today)")
	offer(cmd, "app", c.completeApps)
	cmd.RunE = func(*cobra.Command, []string) error {
		desk, today, err := c.on(on)
		if err != nil {
			return err
		}
		d, err := day.ParseDuration(span)
		if err != nil {
			return usage(sayFlag("for", err))
		}
		to := today.Add(d)
		if to < today || to > today.Add(day.Duration{Months: maxAhead}) {
			return usage(sayForBounds(span, maxAhead/12))
		}
		x, err := desk.Remembered(apps, today)
		if err != nil {
			return err
		}
		c.missing(x)
		x.Only(apps)
		list, err := desk.Falling(x, to)
		if err != nil {
			return err
		}
		organization := x.State.Repo.Organization
		if format == "ical" {
			return show.Calendar(c.Stdout, list, cmp.Or(strings.TrimSpace(organization), "Pravet"), c.Now())
		}
		if format != "table" {
			return show.Output(c.Stdout, c.Environ, format, show.FallingTable(list))
		}
		return c.paged(func(p *show.Printer) error {
			p.Falling(list, to)
			return p.Err()
		})
	}
	return cmd
}

// sayForBounds is a --for that is too short or too long.
func sayForBounds(span string, years int) error {
	return fmt.Errorf("--for %s: it must be between no day and %d years", span, years)
}
