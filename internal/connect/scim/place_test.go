package scim

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestNoIDLeadsElsewhere: an id that would lead to another path is refused, and every other is kept in its place.
func TestNoIDLeadsElsewhere(t *testing.T) {
	for _, id := range []string{"", ".", ".."} {
		_, err := place("Users", id)
		require.ErrorContains(t, err, "by which nothing can be reached", "%q", id)
	}
	for id, want := range map[string]string{
		"2819c223": "Users/2819c223", "a/b": "Users/a%2Fb", "../x": "Users/..%2Fx", "a b?c#d": "Users/a%20b%3Fc%23d", "%2e%2e": "Users/%252e%252e",
	} {
		at, err := place("Users", id)
		require.NoError(t, err)
		require.Equal(t, want, at)
	}
}

// TestAnswersOfABulkAreFoundByTheirNames, in whatever order they come.
func TestAnswersOfABulkAreFoundByTheirNames(t *testing.T) {
	d := &driver{users: map[string]*user{}, client: &client{}}
	one, two := &message{method: "POST", path: "Users"}, &message{method: "PATCH", path: "Users/7"}
	for name, body := range map[string]string{
		"by bulkId": `{"Operations":[{"bulkId":"n1","method":"PATCH","status":"200"},{"bulkId":"n0","method":"POST","status":"409"}]}`,
		"by place":  `{"Operations":[{"method":"POST","status":"409"},{"method":"PATCH","status":"200"}]}`,
		"by location": `{"Operations":[{"method":"PATCH","location":"https://x.example/Users/7","status":"200"},
			{"bulkId":"n0","method":"POST","status":"409"}]}`,
	} {
		answers, err := d.answers(&answer{body: []byte(body)}, []*message{one, two})
		require.NoError(t, err, name)
		require.NoError(t, answers[two], name)
		require.ErrorContains(t, answers[one], "status 409", name)
	}
	answers, err := d.answers(
		&answer{body: []byte(`{"Operations":[{"bulkId":"n1","method":"PATCH","status":"200"}]}`)}, []*message{one, two},
	)
	require.NoError(t, err)
	require.NoError(t, answers[two])
	require.ErrorContains(t, answers[one], "has not carried out the whole Bulk request")
}
