package adopt_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/adopt"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

func TestAccountsAreWhoseTheyAreMostLikely(t *testing.T) {
	people := model.NewPeople()
	file := people.File("people/x.csv")
	var attrs []int
	for _, a := range []string{"id", "userName", "displayName", "email", "formerly"} {
		attrs = append(attrs, people.Attribute(a))
	}
	for i, row := range [][]string{
		{"E1", "ada.holt", "Ada Holt", "ada@m.example", ""},
		{"E2", "bo.lind", "Bo Lind", "bo@m.example", "bo.berg"},
		{"E3", "soren.orsted", "Søren Ørsted", "so@m.example", ""},
		{"E4", "ida.crane", "Ida Crane", "ida@m.example", ""},
		{"E5", "mona.ferris", "Mona Ferris", "mona@m.example", ""},
		{"E6", "ada.lind", "Ada Lind", "", ""},
		{"E7", "ada.lind2", "Ada Lind", "", ""},
	} {
		require.True(t, people.Add(file, i+2, attrs, row))
	}
	people.Close()
	type account struct{ key, name, email string }
	of := func(list ...account) adopt.Input {
		in := adopt.Input{People: people, By: "userName", Accounts: &model.Accounts{}}
		key, name, email := column(), column(), column()
		for _, a := range list {
			key.Append(a.key)
			name.Append(a.name)
			email.Append(a.email)
			in.Accounts.States = append(in.Accounts.States, model.Open)
		}
		in.Accounts.Key, in.Name, in.Email = key, name, email
		return in
	}
	for _, x := range []struct {
		account account
		person  string
		score   int
		why     string
	}{
		{account{"Ada.Holt", "", ""}, "E1", 100, "the account is called by userName"},
		{account{"x1", "", "BO@m.example"}, "E2", 98, "the same email"},
		{account{"bo.berg", "", ""}, "E2", 96, "a former name"},
		{account{"x2", "Soren Orsted", ""}, "E3", 85, "the same name, Soren Orsted"},
		{account{"x3", "Crane, Ida", ""}, "E4", 80, "the same name in another order, Crane, Ida"},
		{account{"icrane", "", ""}, "E4", 70, "the account's name is made of the person's"},
		{account{"mona.feris", "", ""}, "E5", 65, "the account's name differs by a letter"},
		{account{"x4", "Ada Lind", ""}, "E6", 40, "the same name, Ada Lind; 2 people fit"},
		{account{"x5", "Nobody Known", ""}, "", 0, ""},
	} {
		g := adopt.Match(of(x.account))[0]
		who := ""
		if g.Person >= 0 {
			who = people.Get(g.Person, "id")
		}
		assert.Equal(t, []any{x.person, x.score, x.why}, []any{who, g.Score, g.Why}, x.account.key)
	}
	two := adopt.Match(of(account{"ada.holt", "", ""}, account{"ada2", "", "ada@m.example"}))
	assert.Equal(t, "a second account of Ada Holt (E1), beside ada.holt", two[1].Why)
	assert.Equal(t, -1, two[1].Person)
}

func column() *table.Column { return &table.Column{} }

// A name that several people had is nobody's, and each of their other names is still theirs.
func TestAFormerNameOfSeveralIsNobodys(t *testing.T) {
	people := model.NewPeople()
	attrs := []int{people.Attribute("id"), people.Attribute("userName"), people.Attribute("formerly")}
	file := people.File("people/x.csv")
	for i, row := range [][]string{
		{"E1", "ada.holt", "desk ada.berg"},
		{"E2", "bo.lind", "desk bo.berg"},
		{"E3", "cy.moe", "Cy.Berg cy.berg"},
	} {
		require.True(t, people.Add(file, i+2, attrs, row))
	}
	people.Close()
	for name, person := range map[string]int{"desk": -1, "ada.berg": 0, "bo.berg": 1, "cy.berg": 2} {
		in := adopt.Input{People: people, By: "userName", Accounts: &model.Accounts{States: []model.State{model.Open}}}
		in.Accounts.Key = column()
		in.Accounts.Key.Append(name)
		assert.Equal(t, person, adopt.Match(in)[0].Person, name)
	}
}

// Of many who are called alike nobody is taken for an account, and all are named as fitting; their
// list is not gone through again for each account.
func TestManyOfTheSameName(t *testing.T) {
	const n = 20_000
	people := model.NewPeople()
	attrs := []int{people.Attribute("id"), people.Attribute("userName"), people.Attribute("displayName")}
	file := people.File("people/x.csv")
	in := adopt.Input{People: people, By: "userName", Accounts: &model.Accounts{Key: column()}, Name: column()}
	for i := range n {
		require.True(t, people.Add(file, i+2, attrs, []string{fmt.Sprint("E", i), fmt.Sprint("somebody.", i), "Ada Holt"}))
		in.Accounts.Key.Append(fmt.Sprint("x", i))
		in.Name.Append("Ada Holt")
		in.Accounts.States = append(in.Accounts.States, model.Open)
	}
	people.Close()
	for _, g := range adopt.Match(in) {
		require.False(t, g.Certain())
		require.Len(t, g.Others, n-1)
	}
}
