package day_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
)

func TestDatesAreRealDates(t *testing.T) {
	for _, s := range []string{"2026-11-24", "2024-02-29", "1969-12-31", "0001-01-01", "9999-12-31"} {
		d, err := day.Parse(s)
		require.NoError(t, err)
		require.Equal(t, s, d.String())
	}
	for _, s := range []string{
		"2026-02-29", "2026-13-01", "26-11-24", "2026-11-24T00:00:00Z", "24.11.2026", "", "2026-1-1",
	} {
		_, err := day.Parse(s)
		require.ErrorContains(t, err, "write it as YYYY-MM-DD", s)
	}
	late := time.Date(2026, 11, 24, 23, 30, 0, 0, time.FixedZone("west", -5*3600))
	require.Equal(t, "2026-11-24", day.Of(late).String())
	require.Empty(t, day.None.String())
}

func TestDurationsCountInCalendarUnits(t *testing.T) {
	for _, c := range []struct{ from, period, want string }{
		{"2026-11-24", "P1D", "2026-11-25"},
		{"2026-11-24", "-P30D", "2026-10-25"},
		{"2026-11-24", "P2W", "2026-12-08"},
		{"2026-01-31", "P1M", "2026-02-28"},
		{"2024-01-31", "P1M", "2024-02-29"},
		{"2024-02-29", "P1Y", "2025-02-28"},
		{"2026-03-31", "-P1M", "2026-02-28"},
		{"2026-11-24", "P1Y2M3D", "2028-01-27"},
		{"2026-11-24", "+P1D", "2026-11-25"},
	} {
		d, err := day.Parse(c.from)
		require.NoError(t, err)
		p, err := day.ParseDuration(c.period)
		require.NoError(t, err)
		require.Equal(t, c.want, d.Add(p).String(), c.period)
	}
	for _, s := range []string{"P", "30D", "P1H", "PT1H", "P1D1Y", "P1D2D", "P-1D", "P1.5D", "P99999999999D", ""} {
		_, err := day.ParseDuration(s)
		require.ErrorContains(t, err, "for example P30D", s)
	}
}
