package cli

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/show"
	"pravet/internal/source"
)

// maxAhead is how many months seats are looked ahead.
const maxAhead = 120

func (c *program) seats() *cobra.Command {
	var format, on, ahead, plot string
	var apps []string
	cmd := &cobra.Command{
		Use:     "seats",
		Short:   "Count the seats of licenses: bought, used, free, needed, and what they cost",
		GroupID: seeing,
		Long: `Seats counts, for each license of the catalogs, the seats bought and those in use
as the applications exported them, also by what brings a license along; of those
in use the ones of blocked accounts and of accounts of nobody; how many the files
need today; and what they cost. Currencies are kept apart.

--ahead looks forward, month by month: how many seats will be needed, as far as
starts, ends and the last days of holders are known. It is an ISO 8601 duration,
P12M for a year. --plot draws that into a file, PNG or SVG.`,
		Example: example("pravet seats", "pravet seats --ahead P12M", "pravet seats --ahead P6M --plot seats.png"),
		Args:    takes(0, 0, "", ""),
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	f := cmd.Flags()
	f.StringVar(&ahead, "ahead", "", "look this far ahead, for example P12M")
	f.StringVar(&plot, "plot", "", "draw the months ahead into this file, .png or .svg (with --ahead)")
	f.StringSliceVar(&apps, "app", nil, "only this application (may be repeated)")
	f.StringVar(&on, "on", "", "count from this day, YYYY-MM-DD (default: today)")
	offer(cmd, "app", c.completeApps)
	cmd.RunE = func(*cobra.Command, []string) error {
		d, day, err := c.on(on)
		if err != nil {
			return err
		}
		to, err := horizon(ahead, plot, day)
		if err != nil {
			return err
		}
		x, err := d.Look(apps, day)
		if err != nil {
			return err
		}
		v := x.View
		v.Only(apps)
		if ahead != "" { // what will be needed follows from the files
			return c.seatsAhead(v, to, format, plot)
		}
		c.missing(x)
		list := v.Seats()
		if err := show.Output(c.Stdout, c.Environ, format, show.SeatsTable(v, list)); err != nil {
			return err
		}
		if format != "table" {
			return nil
		}
		p := show.NewPrinter(c.Stderr, c.Environ)
		p.Wrapped("", show.SeatsLine(v, list))
		return p.Err()
	}
	return cmd
}

// horizon reads --ahead, as the last day that is looked at.
func horizon(ahead, plot string, today day.Day) (day.Day, error) {
	if plot != "" {
		if ahead == "" {
			return 0, usage(sayPlotAlone())
		}
		if !slices.Contains(show.PlotFormats, strings.ToLower(filepath.Ext(plot))) {
			return 0, usage(sayPlotEnding(plot))
		}
	}
	if ahead == "" {
		return today, nil
	}
	d, err := day.ParseDuration(ahead)
	if err != nil {
		return 0, usage(sayFlag("ahead", err))
	}
	to := today.Add(d)
	if to <= today || to > today.Add(day.Duration{Months: maxAhead}) {
		return 0, usage(sayAheadBounds(ahead, maxAhead/12))
	}
	return to, nil
}

func (c *program) seatsAhead(v *access.View, to day.Day, format, plot string) error {
	months := v.Ahead(to)
	if plot != "" {
		data, err := show.SeatsPlot(v, months, plot)
		if err != nil {
			return fail(Failed, err)
		}
		if err := source.WriteFile(c.path(plot), bytes.NewReader(data), 0o644); err != nil {
			return err
		}
	}
	if err := show.Output(c.Stdout, c.Environ, format, show.AheadTable(v, months).In(format)); err != nil {
		return err
	}
	p := show.NewPrinter(c.Stderr, c.Environ)
	if format == "table" {
		for _, line := range show.Short(v, months) {
			p.Line(show.Alarm(line))
		}
	}
	if plot != "" {
		p.Line(sayDrawn(plot))
	}
	return p.Err()
}

// sayDrawn is where a chart is.
func sayDrawn(file string) string { return "Drawn into " + file }

// sayPlotAlone is a --plot without --ahead.
func sayPlotAlone() error {
	return errors.New("--plot draws what is ahead, and goes with --ahead, for example P12M")
}

// sayPlotEnding is a --plot into a file of another kind.
func sayPlotEnding(file string) error {
	return fmt.Errorf("--plot: %q ends neither in .png nor in .svg", file)
}

// sayAheadBounds is an --ahead that is too short or too long.
func sayAheadBounds(ahead string, years int) error {
	return fmt.Errorf("--ahead %s: it must be between a day and %d years", ahead, years)
}
