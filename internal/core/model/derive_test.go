package model_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"pravet/internal/core/model"
)

func TestAValueFollowsFromOthers(t *testing.T) {
	person := map[string]string{
		"name.givenName":  "Søren Åge",
		"name.familyName": "O'Dahl-Łęcki",
		"userType":        "contractor",
	}
	kinds := []model.Pair{{"Contractor", "external"}, {"Service", "system"}}
	names := []string{"name.givenName", "name.middleName", "name.familyName"}
	for _, x := range []struct {
		name string
		rule model.Rule
		want string
	}{
		{"a constant", model.Rule{Constant: "sso"}, "sso"},
		{"joined, the one without a value left out", model.Rule{From: names, With: " "}, "Søren Åge O'Dahl-Łęcki"},
		{
			"plain and small", model.Rule{From: names, With: ".", Case: model.Lower, Plain: true},
			"sorenage.odahl-lecki",
		},
		{"large", model.Rule{From: []string{"userType"}, Case: model.Upper}, "CONTRACTOR"},
		{"by a table, case ignored", model.Rule{From: []string{"userType"}, Map: kinds}, "external"},
		{"not in the table", model.Rule{From: names[:1], Map: kinds}, ""},
		{"not in the table, but otherwise", model.Rule{From: names[:1], Map: kinds, Else: "member", HasElse: true}, "member"},
		{"no value at all, otherwise", model.Rule{From: []string{"title"}, Else: "none", HasElse: true}, "none"},
		{"no value at all", model.Rule{From: []string{"title"}, With: "."}, ""},
	} {
		assert.Equal(t, x.want, x.rule.Value(func(a string) string { return person[a] }), x.name)
	}
	table := model.Rule{From: []string{"userType"}, Map: kinds}
	assert.True(t, table.Lacks("Seasonal"))
	assert.False(t, table.Lacks("SERVICE"))
	assert.False(t, table.Lacks(""))
}
