// Prices are read and added up, each currency for itself: what
// is in different currencies is never added.

package model

import (
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"
)

// A Price is what one seat costs a month, exactly. The zero value is no price.
type Price struct {
	Currency string // three letters, as in ISO 4217
	Month    *big.Rat
	text     string
}

var pattern = regexp.MustCompile(`^([0-9]{1,12}(?:\.[0-9]{1,4})?) ([A-Z]{3})/(month|year)$`)

// Parse reads AMOUNT CURRENCY/PERIOD: 11.50 EUR/month, 120 CHF/year.
func Parse(s string) (Price, error) {
	m := pattern.FindStringSubmatch(s)
	if m == nil {
		return Price{}, fmt.Errorf("%q is not a price; write it like 11.50 EUR/month or 120 EUR/year", s)
	}
	amount, _ := new(big.Rat).SetString(m[1]) // the pattern has seen to it
	if m[3] == "year" {
		amount.Quo(amount, big.NewRat(12, 1))
	}
	return Price{m[2], amount, s}, nil
}

// Known reports whether there is a price.
func (p Price) Known() bool { return p.Month != nil }

// String is the price as it was written.
func (p Price) String() string { return p.text }

// Times is what some seats cost a month, in words, "" without a price.
func (p Price) Times(seats int) string {
	if !p.Known() {
		return ""
	}
	return Words(p.Currency, p.times(seats))
}

func (p Price) times(seats int) *big.Rat {
	return new(big.Rat).Mul(p.Month, big.NewRat(int64(seats), 1))
}

// Words writes an amount a month, rounded to two digits: 126.50 EUR/month.
func Words(currency string, month *big.Rat) string {
	return month.FloatString(2) + " " + currency + "/month"
}

// A Sum adds up prices, each currency for itself.
type Sum map[string]*big.Rat

// Add adds some seats of a price; without a price nothing.
func (s Sum) Add(p Price, seats int) {
	if !p.Known() || seats == 0 {
		return
	}
	if s[p.Currency] == nil {
		s[p.Currency] = new(big.Rat)
	}
	s[p.Currency].Add(s[p.Currency], p.times(seats))
}

// Currencies lists the currencies, sorted.
func (s Sum) Currencies() []string {
	var out []string
	for c := range s {
		out = append(out, c)
	}
	slices.Sort(out)
	return out
}

// Of is the amount a month in one currency, with two digits.
func (s Sum) Of(currency string) string {
	if s[currency] == nil {
		return "0.00"
	}
	return s[currency].FloatString(2)
}

// String writes the sum in words: 126.50 EUR/month and 40.00 CHF/month.
func (s Sum) String() string {
	var out []string
	for _, c := range s.Currencies() {
		out = append(out, Words(c, s[c]))
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, " and ")
}
