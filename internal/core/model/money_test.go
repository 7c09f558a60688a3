package model_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
)

func TestPricesAreExactAndCurrenciesAreKeptApart(t *testing.T) {
	sum := model.Sum{}
	for price, seats := range map[string]int{"11.50 EUR/month": 12, "100 EUR/year": 3, "0.1 CHF/month": 3} {
		p, err := model.Parse(price)
		require.NoError(t, err)
		require.Equal(t, price, p.String())
		sum.Add(p, seats)
	}
	sum.Add(model.Price{}, 5)
	require.Equal(t, "0.30 CHF/month and 163.00 EUR/month", sum.String()) // 12 · 11.50 + 3 · 100 / 12
	require.Equal(t, "0.00", sum.Of("SEK"))
	require.Equal(t, "nothing", model.Sum{}.String())
	p, err := model.Parse("100 EUR/year")
	require.NoError(t, err)
	require.Equal(t, "8.33 EUR/month", p.Times(1))
	require.Equal(t, "100.00 EUR/month", p.Times(12), "twelve twelfths, not twelve times 8.33")
	require.Empty(t, model.Price{}.Times(3))
}

func TestWhatIsNoPriceIsRefused(t *testing.T) {
	for _, s := range []string{
		"", "11.50", "11.50 EUR", "EUR 11.50/month", "-1 EUR/month", "11,50 EUR/month", "11.50 eur/month",
		"11.50 EUR/week", "1e3 EUR/month", "11.50 EURO/month", "11.12345 EUR/month", "9999999999999 EUR/month",
	} {
		_, err := model.Parse(s)
		require.ErrorContains(t, err, "write it like 11.50 EUR/month", s)
	}
}
