package review

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desk"
	"pravet/internal/show"
)

// An Outcome is how a review was left.
type Outcome uint8

// The outcomes.
const (
	Left      Outcome = iota // nothing is to be recorded now
	Confirmed                // what was decided is to be recorded
)

// A Front is a review on a terminal.
type Front struct {
	Review  *desk.Review
	Environ []string
	Colours bool
	// Besides is what else is known of a change, which takes a while: the commit that caused it, and what its person has and
	// should have. It is called by one goroutine at a time.
	Besides func(c *plan.Change, columns int) string
}

// Run shows the review on a terminal until it is left. The terminal is put back however it ends.
func (f *Front) Run(ctx context.Context, in io.Reader, out io.Writer) (Outcome, error) {
	m := &screen{f: f, r: f.Review, l: newList(f.Review), width: 80, height: 24}
	m.at = m.l.next(-1)
	options := []tea.ProgramOption{tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out), tea.WithEnvironment(f.Environ)}
	if !f.Colours {
		options = append(options, tea.WithColorProfile(colorprofile.ASCII))
	}
	_, err := tea.NewProgram(m, options...).Run()
	if ctx.Err() != nil {
		return Left, ctx.Err()
	}
	return m.outcome, err
}

// A mode is what the screen shows at the moment.
type mode uint8

const (
	listing mode = iota
	reading      // one change
	helping
	confirming
)

// asking is what is asked for in the last line.
type asking struct {
	prompt  string
	input   textinput.Model
	reasons int // of the reasons given before, the number that is shown, from 1; 0 for none
	recalls bool
	answer  func(text string) tea.Cmd
}

// A screen is what is seen of a review.
type screen struct {
	f             *Front
	r             *desk.Review
	l             *list
	at, top       int // the row that is chosen, and the first that is seen
	width, height int
	above         int  // lines that stand above the list
	cut           bool // there is not room for all that the chosen row says
	mode          mode
	one           *plan.Change // while one is read
	text          []string     // its lines
	scroll        int
	asks          *asking
	note          string // of what was done last
	alarm         bool   // it is an error
	outcome       Outcome

	work   sync.Mutex // held by what reads files and exports
	bureau *desk.Bureau
	seats  *desk.Seatings
	uncut  string // what could not be counted, and why
	turns  int    // how often something was decided
}

// seatsMsg are seats that were counted for a turn.
type seatsMsg struct {
	turn  int
	seats desk.Seatings
	err   error
}

// besidesMsg is what else is known of a change.
type besidesMsg struct {
	id   string
	text string
}

// askedMsg is a list that was asked for.
type askedMsg struct {
	next *list
	err  error
}

// Init begins with counting seats.
func (m *screen) Init() tea.Cmd { return m.count() }

// count counts the seats, as things would be.
func (m *screen) count() tea.Cmd {
	m.turns++
	turn, ready := m.turns, append([]decide.State(nil), m.r.Ready...)
	return func() tea.Msg {
		m.work.Lock()
		defer m.work.Unlock()
		if m.bureau == nil {
			b, err := m.r.Bureau()
			if err != nil {
				return seatsMsg{turn: turn, err: err}
			}
			m.bureau = b
		}
		return seatsMsg{turn: turn, seats: m.bureau.Count(ready)}
	}
}

// Update takes a message.
func (m *screen) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
		if m.mode == reading {
			return m, m.read(m.one)
		}
	case seatsMsg:
		if msg.turn == m.turns {
			if m.seats = &msg.seats; msg.err != nil {
				m.seats, m.uncut = nil, msg.err.Error()
			}
		}
	case besidesMsg:
		if m.mode == reading && m.one.ID == msg.id {
			m.text = append(m.opening(), strings.Split(strings.TrimRight(msg.text, "\n"), "\n")...)
		}
	case askedMsg:
		if m.told("", msg.err); msg.err == nil {
			m.l, m.top = msg.next, 0
			m.at = max(m.l.next(-1), 0)
		}
	case tea.PasteMsg:
		if m.asks != nil {
			var cmd tea.Cmd
			m.asks.input, cmd = m.asks.input.Update(msg)
			return m, cmd
		}
	case tea.KeyPressMsg:
		if m.asks != nil {
			return m, m.typed(msg)
		}
		return m, m.pressed(msg.String())
	}
	return m, nil
}

// told notes what was done, or why it was not.
func (m *screen) told(text string, err error) {
	m.note, m.alarm = text, err != nil
	if err != nil {
		m.note = words.Clean(err.Error())
	}
}

// pressed takes a key.
func (m *screen) pressed(key string) tea.Cmd {
	if m.note = ""; key == "ctrl+z" {
		return tea.Suspend
	}
	if key == "ctrl+c" {
		return tea.Quit
	}
	switch m.mode {
	case helping:
		m.mode = listing
		return nil
	case reading:
		return m.readingKey(key)
	}
	if step, ok := m.steps()[key]; ok {
		m.move(step)
		return nil
	}
	switch key {
	case "enter", "right":
		return m.enter()
	case "left":
		if x := m.row(); x != nil && x.open {
			m.l.turn(m.at, false)
		} else {
			m.at = m.l.above(m.at)
		}
	case "n":
		m.at = m.l.next(m.at)
	case "space":
		if x := m.row(); x != nil {
			m.l.pick(m.at)
			m.move(1)
		}
	case "esc":
		if len(m.l.picked) > 0 {
			clear(m.l.picked)
		} else if m.l.filter != "" {
			return m.list(m.l.by, "")
		}
	case "/":
		return m.ask(sayFilterPrompt(), m.l.filter, false, func(text string) tea.Cmd { return m.list(m.l.by, text) })
	case "g":
		return m.ask(sayGroupPrompt(), m.l.by, false, func(text string) tea.Cmd { return m.list(text, m.l.filter) })
	case "c":
		if m.r.Empty() {
			m.told(desk.SayNothingDecided(), nil)
			return nil
		}
		m.mode = confirming
		return m.ask(sayConfirmPrompt(), "", false, func(text string) tea.Cmd {
			m.mode = listing
			if text != "yes" {
				return nil
			}
			m.outcome = Confirmed
			return tea.Quit
		})
	case "q":
		return tea.Quit
	case "?":
		m.mode = helping
	default:
		return m.decision(key)
	}
	return nil
}

// steps are the keys that move, and by how many rows.
func (m *screen) steps() map[string]int {
	page := max(m.body()-1, 1)
	return map[string]int{
		"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -page, "pgdown": page, "home": -len(m.l.rows), "end": len(m.l.rows),
	}
}

// move goes some rows up or down, over headings.
func (m *screen) move(by int) {
	at := min(max(m.at+by, 0), len(m.l.rows)-1)
	step := 1
	if by < 0 {
		step = -1
	}
	for _, step := range []int{step, -step} {
		for i := at; i >= 0 && i < len(m.l.rows); i += step {
			if m.l.rows[i].kind != heading {
				m.at = i
				return
			}
		}
	}
}

// row is the row that is chosen, nil where that is none with changes.
func (m *screen) row() *row {
	if m.at < 0 || m.at >= len(m.l.rows) || m.l.rows[m.at].kind == heading {
		return nil
	}
	return &m.l.rows[m.at]
}

// enter opens a row, or shows a change.
func (m *screen) enter() tea.Cmd {
	x := m.row()
	switch {
	case x == nil:
		return nil
	case x.kind == changeRow:
		return m.read(m.r.Change(x.ids[0]))
	}
	m.l.turn(m.at, !x.open)
	return nil
}

// read shows one change.
func (m *screen) read(c *plan.Change) tea.Cmd {
	m.mode, m.one, m.scroll = reading, c, 0
	m.text = append(m.opening(), "", show.Dim(sayReadingMore()))
	columns := m.width
	return func() tea.Msg {
		m.work.Lock()
		defer m.work.Unlock()
		return besidesMsg{c.ID, m.f.Besides(c, columns)}
	}
}

// opening is what the plan says of the change that is read.
func (m *screen) opening() []string {
	var b bytes.Buffer
	p := show.NewScreen(&b, m.width)
	p.One(&show.PlanView{
		Plan: m.r.Plan, Changes: []*plan.Change{m.one}, States: m.r.States, Earlier: m.r.Earlier(), Lifted: m.r.LiftedNow, Outline: m.r.Outline,
	}, m.one)
	return strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
}

// readingKey takes a key while one change is read.
func (m *screen) readingKey(key string) tea.Cmd {
	page := max(m.body()-1, 1)
	switch key {
	case "esc", "left", "q":
		m.mode = listing
		return nil
	case "up", "k":
		m.scroll--
	case "down", "j":
		m.scroll++
	case "pgup":
		m.scroll -= page
	case "pgdown", "space":
		m.scroll += page
	case "home":
		m.scroll = 0
	case "end":
		m.scroll = len(m.text)
	case "n":
		m.at = m.l.next(m.at)
		m.mode = listing
		if x := m.row(); x != nil && x.kind == changeRow {
			return m.read(m.r.Change(x.ids[0]))
		}
		return nil
	case "?":
		m.mode = helping
	default:
		return m.decision(key)
	}
	m.scroll = min(max(m.scroll, 0), max(len(m.text)-m.body(), 0))
	return nil
}

// decision takes a key that decides.
func (m *screen) decision(key string) tea.Cmd {
	ids := m.l.chosen(m.at)
	if m.mode == reading {
		ids = []string{m.one.ID}
	} else if x := m.row(); x == nil && len(m.l.picked) == 0 {
		return nil
	}
	what := model.Count(len(ids), "change", "changes")
	switch key {
	case "a":
		return m.because(sayReasonFor("Accept "+what), func(because string) tea.Cmd {
			t, err := m.r.Accept(ids, because)
			return m.decided(sayTold("to accept", t), err)
		})
	case "r":
		return m.because(sayReasonFor("Reject "+what), func(because string) tea.Cmd {
			return m.ask(sayUntil(), "", false, func(text string) tea.Cmd {
				until, standing, err := readUntil(text)
				if err != nil {
					m.told("", err)
					return nil
				}
				t, err := m.r.Reject(ids, because, until, standing)
				return m.decided(sayTold("to reject", t), err)
			})
		})
	case "u":
		n, err := m.r.Leave(ids)
		return m.decided(sayLeft(n), err)
	case "l":
		return m.lift(ids)
	}
	return nil
}

// lift lifts a guard that holds some changes, or lets one hold again that was lifted.
func (m *screen) lift(ids []string) tea.Cmd {
	names, _ := m.r.Guards(ids)
	if len(names) == 0 {
		for _, l := range m.r.LiftsOf(ids) {
			_, err := m.r.Unlift(l)
			return m.decided(sayUnlifted(l), err)
		}
		m.told(sayNotHeld(), nil)
		return nil
	}
	lift := func(name string) tea.Cmd {
		return m.because(sayReasonFor("Lift the guard "+name), func(because string) tea.Cmd {
			one, err := m.r.Lift(name, ids, because)
			return m.decided(sayLifted(name, one), err)
		})
	}
	if len(names) == 1 {
		return lift(names[0])
	}
	m.told(sayWhichGuard(names), nil)
	return m.ask(sayGuardPrompt(), names[0], false, lift)
}

// decided shows what came of a decision, and counts anew.
func (m *screen) decided(text string, err error) tea.Cmd {
	m.told(text, err)
	if err == nil {
		clear(m.l.picked)
	}
	if m.mode == reading {
		m.text = append(m.opening(), m.text[min(len(m.opening()), len(m.text)):]...)
	}
	return m.count()
}

// list lists other changes, or the same in another way.
func (m *screen) list(by, filter string) tea.Cmd {
	l := m.l
	return func() tea.Msg {
		m.work.Lock()
		defer m.work.Unlock()
		next, err := l.ask(strings.TrimSpace(by), strings.TrimSpace(filter))
		return askedMsg{next, err}
	}
}

// because asks for a reason, where the earlier ones can be called up again.
func (m *screen) because(prompt string, answer func(string) tea.Cmd) tea.Cmd {
	last := ""
	if len(m.r.Saved.Reasons) > 0 {
		last = m.r.Saved.Reasons[0]
	}
	cmd := m.ask(prompt, last, true, func(text string) tea.Cmd {
		if strings.TrimSpace(text) == "" {
			m.told("", sayNoReason())
			return nil
		}
		text = strings.TrimSpace(text)
		m.r.Remember(text)
		return answer(text)
	})
	return cmd
}

// ask asks for something in the last line.
func (m *screen) ask(prompt, value string, recalls bool, answer func(string) tea.Cmd) tea.Cmd {
	in := textinput.New()
	in.Prompt = ""
	in.SetVirtualCursor(true)
	in.SetWidth(max(m.width-lipgloss.Width(prompt)-3, 8))
	in.SetValue(value)
	in.CursorEnd()
	m.asks = &asking{prompt: prompt, input: in, recalls: recalls, answer: answer}
	return m.asks.input.Focus()
}

// typed takes a key while something is asked for.
func (m *screen) typed(msg tea.KeyPressMsg) tea.Cmd {
	a := m.asks
	switch key := msg.String(); {
	case key == "esc", key == "ctrl+c":
		m.asks = nil
		if m.mode == confirming {
			m.mode = listing
		}
		return nil
	case key == "enter":
		m.asks = nil
		return a.answer(a.input.Value())
	case a.recalls && (key == "up" || key == "down"):
		step := 1
		if key == "down" {
			step = -1
		}
		if n := a.reasons + step; n >= 0 && n < len(m.r.Saved.Reasons) {
			a.reasons = n
			a.input.SetValue(m.r.Saved.Reasons[n])
			a.input.CursorEnd()
		}
		return nil
	}
	var cmd tea.Cmd
	a.input, cmd = a.input.Update(msg)
	return cmd
}

// footLines is how many lines stand below the list.
const footLines = 3

// body is how many lines the list has.
func (m *screen) body() int { return max(m.height-m.above-footLines, 1) }

// View draws the screen.
func (m *screen) View() tea.View {
	lines := m.head()
	m.above = len(lines)
	switch m.mode {
	case helping:
		lines = append(lines, fit(sayHelp(), 0, m.body())...)
	case confirming:
		lines = append(lines, fit(sayAll(m.r), 0, m.body())...)
	case reading:
		lines = append(lines, fit(m.text, m.scroll, m.body())...)
	default:
		lines = append(lines, m.listed()...)
	}
	lines = append(lines, m.foot()...)
	for i := range lines {
		lines[i] = ansi.Truncate(lines[i], m.width, "…")
	}
	v := tea.NewView(strings.Join(lines[:min(len(lines), m.height)], "\n"))
	v.AltScreen = true
	v.WindowTitle = "pravet review " + m.r.Plan.ID
	return v
}

// fit is so many lines of a text.
func fit(text []string, from, lines int) []string {
	out := make([]string, lines)
	copy(out, text[min(max(from, 0), len(text)):])
	return out
}

// head is what is always in sight: the plan, what is decided, what it would cost, and for whom the rest waits.
func (m *screen) head() []string {
	sums := m.l.sums()
	seats := saySeats(m.seats, max((m.width-30)/40, 1))
	if m.uncut != "" {
		seats = m.uncut
	}
	out := []string{
		show.Strong(sayTitle(m.r.Plan)),
		sums,
		ansi.Truncate(seats, m.width, "…"),
	}
	if waits := sayWaits(m.r.Waiting()); waits != "" {
		out = append(out, waits)
	}
	line := strings.Repeat("─", max(m.width, 1))
	if m.l.filter != "" {
		line = "── " + sayOnly(len(m.l.all), len(m.r.Plan.Changes), m.l.filter) + " " + line
	}
	return append(out, show.Dim(line))
}

// foot is what was done last, what is asked for, and the keys.
func (m *screen) foot() []string {
	note := m.note
	if m.alarm {
		note = show.Alarm(note)
	}
	keys := sayKeys(len(m.l.picked), m.width)
	line := ""
	switch {
	case m.asks != nil:
		line, keys = show.Strong(m.asks.prompt)+m.asks.input.View(), sayPromptKeys(m.asks.recalls)
	case m.mode == reading:
		keys = sayKeysOfOne()
	case m.mode == helping:
		keys = sayAnyKey()
	case note == "" && m.cut:
		note = m.whole()
	}
	if line == "" {
		wrapped := strings.Split(lipgloss.Wrap(note, m.width, ""), "\n")
		note = wrapped[0]
		if len(wrapped) > 1 {
			line = strings.Join(wrapped[1:], " ")
		}
	}
	return []string{note, line, show.Dim(keys)}
}

// whole is all that the row says that is chosen, where there was not room for it.
func (m *screen) whole() string {
	text, because, _ := m.l.text(&m.l.rows[m.at])
	if because != "" {
		text += "; " + because
	}
	return text
}

// listed are the rows that are seen.
func (m *screen) listed() []string {
	high := m.body()
	m.at = min(m.at, len(m.l.rows)-1)
	m.top = min(m.top, max(m.at, 0))
	if m.at >= m.top+high {
		m.top = m.at - high + 1
	}
	if m.at <= 1 {
		m.top = 0
	}
	out := make([]string, 0, high)
	for i := m.top; i < len(m.l.rows) && len(out) < high; i++ {
		out = append(out, m.line(i))
	}
	return fit(out, 0, high)
}

// line draws one row.
func (m *screen) line(i int) string {
	x := &m.l.rows[i]
	if x.kind == heading {
		return show.Strong(x.says)
	}
	mark := "  "
	if i == m.at {
		mark = "> "
	}
	if m.l.allPicked(x.ids) {
		mark = mark[:1] + "*"
	}
	text, because, tail := m.l.text(x)
	lead := strings.Repeat("  ", x.depth)
	switch {
	case x.kind == changeRow:
	case x.open:
		lead += fmt.Sprintf("%*s ▾ ", m.l.wide, model.Thousands(len(x.ids)))
	default:
		lead += fmt.Sprintf("%*s ▸ ", m.l.wide, model.Thousands(len(x.ids)))
	}
	effect := ""
	if e, ok := m.l.effect(x); ok {
		effect = show.Effect(e, fmt.Sprintf("%-8s", e))
	}
	left := m.width - len(mark) - lipgloss.Width(lead) - lipgloss.Width(effect) - lipgloss.Width(tail) - 3
	if left < 24 {
		tail, left = "", m.width-len(mark)-lipgloss.Width(lead)-lipgloss.Width(effect)-1
	}
	whats := left
	if because != "" { // what stands above it has as much room, so that both are columns
		whats = min(max((m.width-24)/2, 20), left)
	}
	full := text + because
	text = ansi.Truncate(text, max(whats, 1), "…")
	pad := strings.Repeat(" ", max(whats-lipgloss.Width(text), 0)+1)
	if because != "" {
		because = ansi.Truncate(because, max(left-whats-1, 1), "…")
		pad += show.Dim(because) + strings.Repeat(" ", max(left-whats-1-lipgloss.Width(because), 0)+1)
	}
	if i == m.at {
		m.cut = lipgloss.Width(text+because) < lipgloss.Width(full) || strings.HasSuffix(text, "…") || strings.HasSuffix(because, "…")
		text = show.Strong(text)
	}
	return mark + show.Dim(lead) + effect + text + pad + show.Dim(tail)
}
