package connect_test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/connect/scim"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/standin"
)

// lying is the yard at a server that answers as it likes; discovery finds nothing unless the
// handler answers it.
func lying(t *testing.T, answer http.HandlerFunc) *live.Application {
	t.Helper()
	web := httptest.NewServer(answer)
	t.Cleanup(web.Close)
	return yardAt(t, web.URL, secretOf("open sesame"))
}

func yardAt(t *testing.T, url string, secret func(context.Context, string) (string, error)) *live.Application {
	t.Helper()
	a := yard(t, &connect.Spec{By: "scim", URL: url, Token: "env:TOKEN"})
	a.Spec.Timeout, a.Spec.Tries = 20*time.Second, 2
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return scim.Open(ctx, live.Options{App: a.App, Spec: a.Spec, Secret: secret, Keep: func(string) {}, Ask: a.Ask})
	}
	return a
}

func say(w http.ResponseWriter, status int, kind, body string) {
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_, _ = w.Write([]byte(body))
}

const scimType = "application/scim+json"

// pageOf is a ListResponse.
func pageOf(total int, resources ...string) string {
	return fmt.Sprintf(
		`{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":%d,"Resources":[%s]}`,
		total, strings.Join(resources, ","),
	)
}

func userOf(id, name string) string {
	return fmt.Sprintf(`{"id":%q,"userName":%q,"active":true}`, id, name)
}

// undiscovered answers only lists; each application is asked about its groups first.
func undiscovered(users http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/Users":
			users(w, r)
		case "/Groups":
			say(w, 200, scimType, pageOf(0))
		default:
			say(w, 404, scimType, `{"status":"404"}`)
		}
	}
}

// TestAnApplicationThatLiesGivesNoExport is a table of wrong answers; each is told with what
// to do, and the export before stays in place.
func TestAnApplicationThatLiesGivesNoExport(t *testing.T) {
	body := func(kind, text string) http.HandlerFunc {
		return undiscovered(func(w http.ResponseWriter, _ *http.Request) { say(w, 200, kind, text) })
	}
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		says   string
	}{
		"a page for people": {
			func(w http.ResponseWriter, _ *http.Request) { say(w, 200, "text/html", "<html>Sign in</html>") },
			"the answer is text/html and no SCIM; is the address under url right?",
		},
		"a page for people, later": {body("text/html", "<html>"), "the answer is text/html and no SCIM"},
		"nothing under this address": {
			func(w http.ResponseWriter, _ *http.Request) { say(w, 404, "text/html", "<html>") },
			"the application refused it: status 404",
		},
		"a wrong token": {
			func(w http.ResponseWriter, _ *http.Request) { say(w, 401, scimType, `{"status":"401"}`) },
			"the application does not accept the token (401)",
		},
		"no rights": {
			undiscovered(func(w http.ResponseWriter, _ *http.Request) {
				say(w, 403, scimType, `{"status":"403","detail":"Users is not for `+"\u001b[31m"+`you"}`)
			}),
			"this caller may not do that: status 403",
		},
		"JSON that is no list": {body(scimType, `{"hello":"world"}`), "is no ListResponse; is the address under url right?"},
		"no JSON":              {body(scimType, `hello`), "is no list of SCIM"},
		"JSON that breaks off": {body(scimType, pageOf(2, userOf("1", "ada"))[:90]), "is no list of SCIM"},
		"no total":             {body(scimType, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"Resources":[]}`), "the export is empty"},
		"a total that the pages do not add up to": {
			undiscovered(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Query().Get("startIndex") == "1" {
					say(w, 200, scimType, pageOf(3, userOf("1", "ada"), userOf("2", "bo")))
					return
				}
				say(w, 200, scimType, pageOf(3))
			}),
			"totalResults of Users says 3, and the pages end after 2",
		},
		"more than the total": {
			body(scimType, pageOf(1, userOf("1", "ada"), userOf("2", "bo"))), "totalResults of Users says 1, and the pages give 2",
		},
		"a circle of pages": {
			body(scimType, pageOf(9, userOf("1", "ada"))), `the pages of Users give the resource "1" twice: they go in a circle`,
		},
		"users without ids": {body(scimType, pageOf(1, `{"userName":"ada"}`)), "a resource under Users has no id"},
		"an attribute twice": {
			body(scimType, pageOf(1, `{"id":"1","userName":"ada","UserName":"bo"}`)), "stands twice in one resource",
		},
		"active that is neither": {
			body(scimType, pageOf(1, `{"id":"1","userName":"ada","active":"perhaps"}`)), "active is neither true nor false here",
		},
		"an answer that comes late": {
			undiscovered(func(http.ResponseWriter, *http.Request) { time.Sleep(time.Second) }),
			"the application gave no answer in time, 2 times",
		},
		"an answer without end": {
			undiscovered(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", scimType)
				for chunk := strings.Repeat(" ", 1<<20); ; {
					if _, err := w.Write([]byte(chunk)); err != nil {
						return
					}
				}
			}),
			"the answer is longer than 64 MiB; set a smaller page",
		},
		"a connection that breaks off": {
			undiscovered(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }),
			"the connection broke off",
		},
		"always busy": {
			undiscovered(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Retry-After", "0")
				say(w, 429, scimType, `{}`)
			}),
			"the application takes no more requests for now (429), 2 times",
		},
		"no users at all, by its own words": {
			func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/ResourceTypes" {
					say(w, 200, scimType, pageOf(1, `{"endpoint":"/Boats","schema":"urn:example:Boat"}`))
					return
				}
				say(w, 404, scimType, `{}`)
			},
			"the application has no users, by its ResourceTypes",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := lying(t, c.answer)
			if strings.Contains(c.says, "in time") {
				a.Spec.Timeout = 400 * time.Millisecond
			}
			file := filepath.Join(a.Tree.Dir, "yard.jsonl")
			before := `{"account":"ada","state":"open"}` + "\n"
			require.NoError(t, os.WriteFile(file, []byte(before), 0o600))
			_, err := a.Fetch(context.Background(), func(int) {})
			require.ErrorContains(t, err, c.says)
			require.NotContains(t, err.Error(), "open sesame")
			require.NotContains(t, err.Error(), "\x1b")
			after, err := os.ReadFile(file)
			require.NoError(t, err)
			require.Equal(t, before, string(after))
			left, err := os.ReadDir(a.Tree.Dir)
			require.NoError(t, err)
			require.Len(t, left, 1, "nothing is left beside it")
		})
	}
}

// TestTheTokenGoesNowhereElse: not to a host that the application sends us to.
func TestTheTokenGoesNowhereElse(t *testing.T) {
	var reached atomic.Bool
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		reached.Store(true)
		say(w, 200, scimType, pageOf(0))
	}))
	defer other.Close()
	a := lying(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL+"/scim?from=here", http.StatusTemporaryRedirect)
	})
	_, err := a.Fetch(context.Background(), func(int) {})
	require.ErrorContains(
		t,
		err,
		"the application sends us to "+other.URL+"/scim, and the token goes nowhere but where url says",
	)
	require.False(t, reached.Load())
}

// TestAnApplicationThatIsNotThere: a host that is down, a host that is not there, and one whose
// certificate nobody vouches for, or that is out of date.
func TestAnApplicationThatIsNotThere(t *testing.T) {
	down := httptest.NewServer(http.NotFoundHandler())
	down.Close()
	_, err := yardAt(t, down.URL, secretOf("x")).Fetch(context.Background(), func(int) {})
	require.ErrorContains(t, err, "the application cannot be reached: dial tcp")
	unknown := httptest.NewTLSServer(http.NotFoundHandler())
	defer unknown.Close()
	_, err = yardAt(t, unknown.URL, secretOf("x")).Fetch(context.Background(), func(int) {})
	require.ErrorContains(
		t,
		err,
		"the application's certificate is not accepted: x509: certificate signed by unknown authority",
	)
	require.ErrorContains(t, err, "name its authority's file under ca, if you trust it")
	old := httptest.NewUnstartedServer(http.NotFoundHandler())
	old.TLS = &tls.Config{MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11}
	old.StartTLS()
	defer old.Close()
	_, err = yardAt(t, old.URL, secretOf("x")).Fetch(context.Background(), func(int) {})
	require.ErrorContains(t, err, "protocol version", "nothing older than TLS 1.2")
	_, err = yardAt(t, "https://no-such-host.invalid", secretOf("x")).Fetch(context.Background(), func(int) {})
	var dns *net.DNSError
	require.False(t, err == nil || dns != nil)
	require.Regexp(t, "there is no host no-such-host.invalid; correct url|cannot be reached", err.Error())
}

// TestATokenThatExpiresIsHadAnew: in the middle of a fetch; also one of OAuth 2.0.
func TestATokenThatExpiresIsHadAnew(t *testing.T) {
	play, err := standin.New(standin.Options{})
	require.NoError(t, err)
	for i := range 9 {
		play.AddUser(map[string]any{"userName": fmt.Sprintf("p%d", i), "active": true})
	}
	var good atomic.Value
	good.Store("first")
	var requests, tokens atomic.Int32
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/token" {
			id, secret, _ := r.BasicAuth()
			if id != "pravet" || secret != "kept-well" {
				say(w, 401, "application/json", `{"error":"invalid_client"}`)
				return
			}
			n := tokens.Add(1)
			good.Store(fmt.Sprintf("token %d", n))
			body, _ := json.Marshal(
				map[string]any{"access_token": good.Load(), "token_type": "Bearer", "expires_in": 3600},
			)
			say(w, 200, "application/json", string(body))
			return
		}
		if requests.Add(1) == 6 {
			good.Store("second")
		}
		if r.Header.Get("Authorization") != fmt.Sprintf("Bearer %s", good.Load()) {
			say(w, 401, scimType, `{"status":"401"}`)
			return
		}
		play.ServeHTTP(w, r)
	}))
	defer web.Close()
	a := yardAt(t, web.URL, func(context.Context, string) (string, error) { return fmt.Sprint(good.Load()), nil })
	state, err := a.Fetch(context.Background(), func(int) {})
	require.NoError(t, err)
	require.Equal(t, 9, state.Accounts.Len())

	requests.Store(0)
	a = yardAt(t, web.URL, secretOf("kept-well"))
	a.Spec.Token, a.Spec.Client = "", &connect.Client{ID: "pravet", Secret: "env:SECRET", At: web.URL + "/token"}
	state, err = a.Fetch(context.Background(), func(int) {})
	require.NoError(t, err)
	require.Equal(t, 9, state.Accounts.Len())
	require.Equal(t, int32(2), tokens.Load(), "another token is asked for once the first has expired")
	a = yardAt(t, web.URL, secretOf("guessed"))
	a.Spec.Token, a.Spec.Client = "", &connect.Client{ID: "pravet", Secret: "env:SECRET", At: web.URL + "/token"}
	_, err = a.Fetch(context.Background(), func(int) {})
	require.ErrorContains(t, err, "gives no token: status 401 invalid_client")
	require.NotContains(t, err.Error(), "guessed")
}

// TestWhatSomebodyChangesMeanwhileIsNotOverwritten, also between the look and the write: then
// the version tells.
func TestWhatSomebodyChangesMeanwhileIsNotOverwritten(t *testing.T) {
	r, play := overSCIM(t, standin.Faults{NoBulk: true})
	r.app.Spec.Parallel = 1
	change := update("ada", "displayName", "Ada Fell", "Ada Quay", r.app)
	step, err := r.app.Prepare(context.Background(), "", []*plan.Change{change, thing(model.Join, "ada", "deck")})
	require.NoError(t, err)
	r.rename("ada", "Ada of the Fell")
	errs := map[model.Verb]error{}
	require.NoError(t, step.Commit(context.Background(), func(c *plan.Change, err error) { errs[c.Verb] = err }))
	var f *connect.Fault
	require.ErrorAs(t, errs[model.Update], &f)
	require.Equal(t, connect.Conflict, f.Kind)
	require.NoError(t, errs[model.Join])
	ada, _ := play.User("ada")
	require.Equal(t, "Ada of the Fell", ada["displayName"])
}

// TestInterruptedWhatIsInFlightIsFinished and the rest is not begun.
func TestInterruptedWhatIsInFlightIsFinished(t *testing.T) {
	r, play := overSCIM(t, standin.Faults{NoBulk: true, Delay: 30 * time.Millisecond})
	r.app.Spec.Parallel, r.app.Spec.Rate = 1, 100
	var changes []*plan.Change
	for i := range 8 {
		changes = append(
			changes,
			&plan.Change{Verb: model.Create, Account: fmt.Sprintf("n%d", i), After: plan.Fields(nil)},
		)
	}
	step, err := r.app.Prepare(context.Background(), "", changes)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done, not := 0, 0
	require.NoError(t, step.Commit(ctx, func(_ *plan.Change, err error) {
		switch {
		case err == nil:
			if done++; done == 3 {
				stop()
			}
		default:
			require.ErrorIs(t, err, connect.ErrNotBegun)
			not++
		}
	}))
	stop()
	require.Equal(t, 8, done+not)
	require.Positive(t, not)
	require.Len(t, play.Log(), done, "what was answered was done, and nothing else")
}
