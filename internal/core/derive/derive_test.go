package derive_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"pravet/internal/core/derive"
)

func TestAValueFollowsFromOthers(t *testing.T) {
	person := map[string]string{
		"name.givenName":  "Søren Åge",
		"name.familyName": "O'Dahl-Łęcki",
		"userType":        "contractor",
	}
	kinds := []derive.Pair{{"Contractor", "external"}, {"Service", "system"}}
	names := []string{"name.givenName", "name.middleName", "name.familyName"}
	for _, x := range []struct {
		name string
		rule derive.Rule
		want string
	}{
		{"a constant", derive.Rule{Constant: "sso"}, "sso"},
		{"joined, the one without a value left out", derive.Rule{From: names, With: " "}, "Søren Åge O'Dahl-Łęcki"},
		{
			"plain and small", derive.Rule{From: names, With: ".", Case: derive.Lower, Plain: true},
			"sorenage.odahl-lecki",
		},
		{"large", derive.Rule{From: []string{"userType"}, Case: derive.Upper}, "CONTRACTOR"},
		{"by a table, case ignored", derive.Rule{From: []string{"userType"}, Map: kinds}, "external"},
		{"not in the table", derive.Rule{From: names[:1], Map: kinds}, ""},
		{"not in the table, but otherwise", derive.Rule{From: names[:1], Map: kinds, Else: "member", HasElse: true}, "member"},
		{"no value at all, otherwise", derive.Rule{From: []string{"title"}, Else: "none", HasElse: true}, "none"},
		{"no value at all", derive.Rule{From: []string{"title"}, With: "."}, ""},
	} {
		assert.Equal(t, x.want, x.rule.Value(func(a string) string { return person[a] }), x.name)
	}
	table := derive.Rule{From: []string{"userType"}, Map: kinds}
	assert.True(t, table.Lacks("Seasonal"))
	assert.False(t, table.Lacks("SERVICE"))
	assert.False(t, table.Lacks(""))
}
