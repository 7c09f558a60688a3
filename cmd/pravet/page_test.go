//go:build linux

package main_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A visit is a page in a browser that nobody sees.
type visit struct {
	t      *testing.T
	ctx    context.Context
	folder string // where downloads go
	lock   sync.Mutex
	errors []string
}

// complaints are what the browser has complained of.
func (v *visit) complaints() []string {
	v.lock.Lock()
	defer v.lock.Unlock()
	return slices.Clone(v.errors)
}

func (v *visit) complains(text string) {
	v.lock.Lock()
	defer v.lock.Unlock()
	v.errors = append(v.errors, text)
}

// forgives forgets them, where a test has brought them about.
func (v *visit) forgives() {
	v.lock.Lock()
	defer v.lock.Unlock()
	v.errors = nil
}

// visits opens a file in a browser. Whatever the page has the browser complain of fails the test.
func visits(t *testing.T, file string) *visit {
	t.Helper()
	options := append(
		chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.ExecPath(chromium(t)),
	)
	alloc, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	ctx, end := chromedp.NewContext(alloc, chromedp.WithErrorf(t.Logf))
	t.Cleanup(end)
	ctx, late := context.WithTimeout(ctx, 90*time.Second)
	t.Cleanup(late)
	v := &visit{t: t, ctx: ctx, folder: t.TempDir()}
	chromedp.ListenTarget(ctx, func(ev any) {
		switch ev := ev.(type) {
		case *runtime.EventExceptionThrown:
			v.complains(ev.ExceptionDetails.Error())
		case *log.EventEntryAdded:
			v.complains(fmt.Sprintf("%s:%d %s", ev.Entry.URL, ev.Entry.LineNumber, ev.Entry.Text))
		}
	})
	v.do(
		browser.SetDownloadBehavior(browser.SetDownloadBehaviorBehaviorAllow).WithDownloadPath(v.folder),
		log.Enable(), chromedp.Navigate("file://"+file),
	)
	t.Cleanup(func() { require.Empty(t, v.complaints()) })
	return v
}

func chromium(t *testing.T) string {
	t.Helper()
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if at, err := exec.LookPath(name); err == nil {
			return at
		}
	}
	t.Fatal("a browser is needed: apt-get install chromium")
	return ""
}

func (v *visit) do(actions ...chromedp.Action) {
	v.t.Helper()
	require.NoError(v.t, chromedp.Run(v.ctx, actions...))
}

// is evaluates an expression of the page.
func is[T any](v *visit, expression string) (out T) {
	v.t.Helper()
	v.do(chromedp.Evaluate(expression, &out))
	return out
}

// comes waits until an expression of the page has a value: what keys do is drawn a moment after them.
func (v *visit) comes(want, expression string) {
	v.t.Helper()
	require.EventuallyWithT(v.t, func(t *assert.CollectT) {
		assert.Equal(t, want, is[string](v, expression))
	}, 20*time.Second, 20*time.Millisecond)
}

// accessible has a checker of accessibility look at the page as it is.
func (v *visit) accessible(what string) {
	v.t.Helper()
	checker, err := os.ReadFile(filepath.Join("..", "..", "tools", "peers", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(v.t, err)
	var found []struct {
		ID, Help string
		Nodes    []struct{ HTML, FailureSummary string }
	}
	v.do(chromedp.Evaluate(string(checker), nil), chromedp.Evaluate(
		`axe.run(document, {resultTypes: ["violations"]}).then((r) => r.violations.map((x) => ({ID: x.id, Help: x.help,
			Nodes: x.nodes.slice(0, 3).map((n) => ({HTML: n.html, FailureSummary: n.failureSummary}))})))`,
		&found, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) },
	))
	require.Empty(v.t, found, what)
}

// looks sets how the reader likes pages: light or dark.
func (v *visit) looks(scheme string) {
	v.t.Helper()
	v.do(emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}))
}

// set gives a field of the page a value, as somebody does who types or chooses.
func (v *visit) set(id, value string) {
	v.t.Helper()
	v.do(chromedp.Evaluate(fmt.Sprintf(`{ const e = document.getElementById(%q); e.value = %q; e.dispatchEvent(new Event("input")); }`, id, value), nil))
}

// downloaded waits for a file.
func (v *visit) downloaded(name string) string {
	v.t.Helper()
	at := filepath.Join(v.folder, name)
	require.Eventually(v.t, func() bool {
		info, err := os.Stat(at)
		return err == nil && info.Size() > 0
	}, 20*time.Second, 20*time.Millisecond)
	return at
}

// TestAPlanIsDecidedOnAPage: somebody without a command line finds changes, accepts some and rejects others with the keyboard
// alone, and sends the file that the page writes; it is recorded under that name, and once.
func TestAPlanIsDecidedOnAPage(t *testing.T) {
	repo, id := reviewRepo(t)
	status, out := in(t, repo, "review", "--page", "plan.html")
	require.Zero(t, status, out)
	require.Equal(t, "Written to plan.html: 38 changes.\n", out)
	v := visits(t, filepath.Join(repo, "plan.html"))
	v.comes("38 changes", `document.getElementById("found").textContent`)
	for _, scheme := range []string{"light", "dark"} {
		v.looks(scheme)
		v.accessible("the page, " + scheme)
	}
	require.Contains(t, is[string](v, `document.querySelector(".sum").innerText`), "Guards hold 8: 5 in rosters by suspensions")

	// By keyboard: the search, then the first row.
	v.do(chromedp.Focus("#search"), chromedp.KeyEvent("restore dagny"))
	v.comes("1 of 38 changes", `document.getElementById("found").textContent`)
	v.do(chromedp.Focus("#groups summary"), chromedp.KeyEvent(kb.Enter), chromedp.Focus(`#groups .change button`), chromedp.KeyEvent(kb.Enter))
	v.comes("because", `document.activeElement.id`)
	v.accessible("while a reason is asked for")
	v.do(chromedp.KeyEvent("back on board"), chromedp.Click(`#ask-form button[value=yes]`))
	v.comes("1 to accept, 0 to reject, 37 open", `document.getElementById("sum").textContent`)

	// A whole group, by another grouping; what needs a rejected change is rejected along with it.
	v.set("search", "")
	v.set("by", "app")
	for _, app := range []string{"tickets", "rosters", "berths"} {
		require.Contains(t, is[string](v, `document.getElementById("groups").innerText`), app)
	}
	v.do(chromedp.Evaluate(`[...document.querySelectorAll("#groups summary")].find((s) => s.innerText.includes("berths")).click()`, nil))
	v.do(chromedp.WaitVisible(`//details[@open]//button[text()="Reject"]`), chromedp.Click(`//details[@open]/div/button[text()="Reject"]`))
	v.do(chromedp.SendKeys("#because", "not before <b>the</b> audit & \"so on\""), chromedp.Click(`#ask-form button[value=yes]`))
	v.comes("1 to accept, 5 to reject, 32 open", `document.getElementById("sum").textContent`)
	v.accessible("with something decided")

	v.do(chromedp.Click("#write"), chromedp.SendKeys("#by-name", "E0031"))
	v.accessible("while the file is written")
	require.Equal(t,
		"ssh-keygen -Y sign -n decision@pravet -f ~/.ssh/id_ed25519 decision-"+id+".json", is[string](v, `document.getElementById("sign").textContent`))
	v.do(chromedp.Click(`#save-form button[value=yes]`))
	file := v.downloaded("decision-" + id + ".json")

	status, out = in(t, repo, "decisions", "take", file)
	require.Zero(t, status, out)
	require.Contains(t, out, "Recorded: E0031 rejects 5 changes, accepts 1 change")
	require.Contains(t, out, "(by name)")
	states := map[string]int{}
	for _, state := range decided(t, repo) {
		states[state]++
	}
	require.Equal(t, map[string]int{"accepted": 1, "rejected": 5}, states)
	_, out = in(t, repo, "log", "--kind", "decision")
	require.Contains(t, out, `not before <b>the</b> audit & "so on"`)
	status, out = in(t, repo, "decisions", "take", file)
	require.Zero(t, status, out)
	require.Contains(t, out, "On record already")

	// A later page shows what is decided.
	status, out = in(t, repo, "review", "--page", "plan.html")
	require.Zero(t, status, out)
	v = visits(t, filepath.Join(repo, "plan.html"))
	v.set("only", "rejected")
	v.comes("5 of 38 changes", `document.getElementById("found").textContent`)
}

// TestADecisionOfAPageIsSigned: with the line that the page gives, by ssh-keygen alone; where decisions are signed, the file is
// refused without.
func TestADecisionOfAPageIsSigned(t *testing.T) {
	o := newOffice(t, signedOnly+"deciders:\n  - {changes: 'app eq \"berths\"', people: {owner: true}}\n", "E0061", "E0047", "E0031", "E0042")
	o.well("", "draft", "--on", "2026-11-24")
	owner := ownerOf(t, o.dir, "berths")
	key := o.key("owner")
	out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", key).CombinedOutput()
	require.NoError(t, err, "%s", out)
	o.add("keys/allowed_signers", owner+" "+string(readFile(t, key+".pub")))
	o.commit("The owner has a key")
	o.well("", "draft", "--on", "2026-11-24")
	said := o.well("", "review", "--page", "owner.html", "--for", owner)
	require.Contains(t, said, "Written to owner.html: 5 of 38 changes, which wait for ")
	text := string(readFile(t, filepath.Join(o.dir, "owner.html")))
	require.NotContains(t, text, "Dagny Cole", "nothing else is on it")
	status, refused := o.by("", "review", "--page", "other.html", "--for", "E0061")
	require.Equal(t, 2, status)
	require.Contains(t, refused, "waits for Farah Linden to decide")
	require.NoFileExists(t, filepath.Join(o.dir, "other.html"))

	v := visits(t, filepath.Join(o.dir, "owner.html"))
	v.comes("5 changes", `document.getElementById("found").textContent`)
	v.set("by", "app")
	v.do(chromedp.Click("#groups summary"), chromedp.Click(`//details[@open]/div/button[text()="Accept"]`))
	v.do(chromedp.SendKeys("#because", "as planned"), chromedp.Click(`#ask-form button[value=yes]`))
	v.do(chromedp.Click("#write"))
	v.comes(owner, `document.getElementById("by-name").value`)
	v.do(chromedp.Click(`#save-form button[value=yes]`))
	file := v.downloaded(is[string](v, `document.getElementById("sign").textContent.split(" ").pop()`))
	status, refused = o.by("", "decisions", "take", file)
	require.Equal(t, 1, status)
	require.Contains(t, refused, "it is not signed, and decisions are signed here")
	line := strings.Replace(is[string](v, `document.getElementById("sign").textContent`), "~/.ssh/id_ed25519", key, 1)
	sign := exec.Command("sh", "-c", line)
	sign.Dir = v.folder
	out, err = sign.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, o.well("", "decisions", "take", file), "accepts 5 changes, of plan")
	states := map[string]int{}
	for _, state := range decided(t, o.dir) {
		states[state]++
	}
	require.Equal(t, map[string]int{"accepted": 5}, states)
}

// TestALetterCarriesThePage: whoever is to decide gets a page of just that with the letter, and others get none.
func TestALetterCarriesThePage(t *testing.T) {
	o := newOffice(t, `deciders:
  - {changes: 'app eq "berths"', people: {owner: true}}
letters:
  from: access@marrowick.example
  pages: true
  readers: [{who: deciders}, {who: administrators, to: [E0061]}]
  by: [{folder: outbox}]
`)
	o.well("", "draft", "--on", "2026-11-24")
	require.NoError(t, os.Mkdir(filepath.Join(o.dir, "outbox"), 0o700))
	o.well("", "letters", "--send")
	files, err := filepath.Glob(filepath.Join(o.dir, "outbox", "*"))
	require.NoError(t, err)
	with := 0
	for _, file := range files {
		text := string(readFile(t, file))
		if strings.Contains(text, "Content-Type: text/html") {
			with++
			require.Contains(t, text, "wait for your decision")
			require.Regexp(t, `filename="plan-[a-z2-9]{8}\.html"`, text)
		} else {
			require.NotContains(t, text, "for your decision")
		}
	}
	require.Equal(t, 1, with, "%v", files)
}

// ownerOf is who owns an application, by its file.
func ownerOf(t *testing.T, repo, app string) string {
	t.Helper()
	for line := range strings.SplitSeq(string(readFile(t, filepath.Join(repo, "apps", app+".yaml"))), "\n") {
		if id, ok := strings.CutPrefix(line, "owner: "); ok {
			return strings.Fields(id)[0]
		}
	}
	t.Fatal("no owner")
	return ""
}

// TestAPageOfTenThousandChanges: it is small enough for mail, and is seen at once. What a name or a reason holds is text.
func TestAPageOfTenThousandChanges(t *testing.T) {
	repo := filepath.Join(t.TempDir(), "repo")
	manyChanges(t, repo, 10_000, "strays: suspend", `"<script>alert(1)</script>",<img src=x onerror=alert(2)>,Open,,`)
	status, out := in(t, repo, "review", "--page", "plan.html")
	require.Zero(t, status, out)
	info, err := os.Stat(filepath.Join(repo, "plan.html"))
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(10<<20))
	v := visits(t, filepath.Join(repo, "plan.html"))
	painted := is[float64](v, `performance.getEntriesByName("first-contentful-paint")[0].startTime`)
	drawn := is[float64](v, `performance.timing.loadEventEnd - performance.timing.navigationStart`)
	t.Logf("%d KiB; first paint after %.0f ms, all of it after %.0f ms", info.Size()>>10, painted, drawn)
	require.Less(t, painted, 5000.0)
	v.set("search", "alert")
	v.do(chromedp.Evaluate(`document.querySelector("#groups summary").click()`, nil))
	require.Eventually(t, func() bool { return is[bool](v, `document.querySelector("#groups .change") !== null`) }, 5*time.Second, 10*time.Millisecond)
	require.Contains(t, is[string](v, `document.getElementById("groups").innerText`), "<script>alert(1)</script>")
	require.False(t, is[bool](v, `[...document.images].length > 0`))

	// Nothing is fetched, whatever somebody puts in.
	require.Contains(t, is[string](v, `document.querySelector("meta[http-equiv]").content`), "default-src 'none'")
	v.do(chromedp.Evaluate(`{ const i = new Image(); i.src = "http://127.0.0.1:1/x.png"; }`, nil))
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(v.complaints(), "\n"), "The action has been blocked")
	}, 5*time.Second, 10*time.Millisecond)
	v.forgives()

	// For print and without a script the causes are in a table.
	v.do(emulation.SetEmulatedMedia().WithMedia("print"))
	v.comes("block", `getComputedStyle(document.getElementById("causes")).display`)
	v.comes("none", `getComputedStyle(document.getElementById("bar")).display`)
	var pdf []byte
	v.do(chromedp.ActionFunc(func(ctx context.Context) (err error) {
		pdf, _, err = page.PrintToPDF().Do(ctx)
		return err
	}))
	require.NotEmpty(t, pdf)
}

// TestReportPagesAreAccessible: in light and dark, with charts and tables.
func TestReportPagesAreAccessible(t *testing.T) {
	repo, _ := reviewRepo(t)
	status, out := in(t, repo, "report", "--out", "report.html")
	require.Zero(t, status, out)
	v := visits(t, filepath.Join(repo, "report.html"))
	for _, scheme := range []string{"light", "dark"} {
		v.looks(scheme)
		v.accessible(scheme)
	}
}
