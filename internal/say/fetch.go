package say

import (
	"fmt"
	"strings"
	"time"

	"pravet/internal/core/model"
)

// NotFetched is that applications were named that are not fetched.
func NotFetched(apps []string) error {
	return fmt.Errorf(
		"%s %s its export itself; only what is reached by scim, ldap, postgres or program is fetched",
		strings.Join(apps, ", "), model.Plural(len(apps), "writes", "each writes"),
	)
}

// NothingLive is that there is nothing to fetch.
func NothingLive() string {
	return "There is nothing to fetch: each application writes its export itself."
}

// NotFetchedBecause is why an application could not be fetched.
func NotFetchedBecause(err error) string { return "Not fetched: " + err.Error() }

// Fetched is that an application was fetched.
func Fetched(app string, accounts int) string {
	return fmt.Sprintf("%s: fetched, %s", app, model.Count(accounts, "account", "accounts"))
}

// Reading is how far reading an application has come.
func Reading(app string, accounts int) string {
	return fmt.Sprintf("%s: %s read so far", app, model.Count(accounts, "account", "accounts"))
}

// FetchFailed is that some applications could not be fetched.
func FetchFailed(failed, of int) error {
	return fmt.Errorf("%d of %s could not be fetched", failed, model.Count(of, "application", "applications"))
}

// Lacking is that callers may not do all that is needed.
func Lacking(n int) error {
	return fmt.Errorf("%s; look for “no” above", model.Count(n, "thing is lacking", "things are lacking"))
}

// NotLoopback is that a stand-in listens on this machine only.
func NotLoopback(at string) error {
	return fmt.Errorf("--at: %s is not an address of this machine alone; write 127.0.0.1:PORT", at)
}

// NotListening is that an address cannot be listened at.
func NotListening(at string, err error) error {
	return fmt.Errorf("nobody can listen at %s: %w; take another one with --at", at, err)
}

// NoFault is that a stand-in cannot misbehave like that.
func NoFault(text string, known []string) error {
	return fmt.Errorf(
		"--fault: %q is not understood; write NAME=VALUE, like busy=10%% or delay=50ms, with one of %s",
		text, strings.Join(known, ", "),
	)
}

// Playing is where a stand-in is.
func Playing(app, at string) string { return fmt.Sprintf("%s is played at %s", app, at) }

// FilesAskStill is that the files ask for what a back-out undoes.
func FilesAskStill(run string) string {
	return fmt.Sprintf("The files still ask for what %s did. Change them too, or the next draft brings it back.", run)
}

// Beside begins the list of what others have changed while a run went on.
func Beside() string {
	return "Since the plan's export, others have changed this; nothing of it was touched:"
}

// Progress is how far a run has come in an application.
func Progress(app string, effects map[model.Effect]int, failed int, left time.Duration) string {
	text := fmt.Sprintf(
		"%s: %d widen, %d narrow, %d keep",
		app,
		effects[model.Widens],
		effects[model.Narrows],
		effects[model.Keeps],
	)
	if failed > 0 {
		text += fmt.Sprintf(", %d failed", failed)
	}
	if left > time.Second {
		text += fmt.Sprintf("; about %s left", left.Round(time.Second))
	}
	return text
}

// Claimed is that another run changes an application.
func Claimed(app string) error {
	return fmt.Errorf("another run, from another repository, changes %s just now; wait until it is done", app)
}

// NotClaimed is that nobody can say whether another run changes an application.
func NotClaimed(app string, err error) error {
	return fmt.Errorf("%s cannot be kept from other runs while this one changes it: %w", app, err)
}
