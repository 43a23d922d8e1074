// Package suite is a collaboration suite that is worked against: three programs that each carry some
// services, with vocabularies and small interfaces of their own. It knows nothing of Wexillum and shares
// no code with it, as no real suite would.
//
// It does what makes such work hard: lists whose meaning turns with a mode, words whose meaning their
// maker decides, changes that count late, readings that are stale, changes that are accepted and not
// done, refusals in words of its own, a limit of calls, and an administrator who changes things at its
// own page.
package suite

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
)

// value is one setting: what was accepted, and when; and what counted before.
type value struct {
	Now  string    `json:"now"`
	Was  string    `json:"was,omitempty"` // what counts until the change does
	At   time.Time `json:"at"`
	By   string    `json:"by,omitempty"`
	Lied bool      `json:"lied,omitempty"` // it was accepted, and never counts
}

// knob is a setting that a program has.
type knob struct {
	name, title, help string
	words             []string // those it takes; none: a whole number, or the word for no end
	endless           string
	start             string
	late              time.Duration
	board             bool // a list of names with a mode, which is one of words
	hand              bool // not by the interface
	charter           bool // a set of values for one hull, in entire
}

// charter begins the name of a set of values that a hull is given: it stands there for the general ones.
const charter = "charter:"

// charterLate is how late a charter counts: as its slowest value.
func (p *Program) charterLate() (late time.Duration) {
	for _, name := range p.charters {
		if k, ok := p.find(name); ok {
			late = max(late, k.late)
		}
	}
	return
}

// Program is one of the suite's three. Its methods may be called at once.
type Program struct {
	Name, Title string
	knobs       []knob
	charters    []string // the settings that a charter says; nil where there are none
	charterFor  string   // who gets one: hulls and berths (#), or people (@)
	mu          sync.Mutex
	values      map[string]value
	key         string
	file        string
	faster      float64 // by this factor all spans are shorter
	clock       func() time.Time
	calls       []time.Time
	most        int // calls a minute; 0 for any number
	quirks      Quirks
	log         []Change
	say         string // what went wrong at its page last
	keeps       []shelf
	house       string
	shelves     map[string]*things
	peers       map[string]string // where the programs of other houses are, by their domains
	ask         *asker            // whom it asks before a letter goes on; nil for nobody
}

// Quirks are what may be wrong with a program, switched at its page and in tests.
type Quirks struct {
	Lie    bool `json:"lie"`    // changes are accepted and never count
	Stale  bool `json:"stale"`  // a reading shows what was ten minutes ago
	Fail   bool `json:"fail"`   // every other change fails half-way
	Silent bool `json:"silent"` // it does not answer in time
	Maker  bool `json:"maker"`  // its maker decides otherwise what a word means that they decide
}

// Change is what somebody changed, for its own page.
type Change struct {
	At             time.Time
	Name, Was, Now string
	By             string
}

func (p *Program) find(name string) (*knob, bool) {
	if of, ok := strings.CutPrefix(name, charter); ok && len(of) > 1 && p.charters != nil &&
		strings.HasPrefix(of, "@") == (p.charterFor == "people") {
		return &knob{name: name, title: "Charter of " + of, charter: true, late: p.charterLate()}, true
	}
	i := slices.IndexFunc(p.knobs, func(k knob) bool { return k.name == name })
	if i < 0 {
		return nil, false
	}
	return &p.knobs[i], true
}

var (
	errNoKnob  = errors.New("that is none of mine")
	errWord    = errors.New("that I do not understand")
	errHand    = errors.New("that is for the person at the desk")
	errBusy    = errors.New("too many at once; come back in a minute")
	errHalf    = errors.New("something broke half-way")
	errNotHere = errors.New("not here")
)

// set changes a setting. What it takes is in the words of this program alone.
func (p *Program) set(name, to, by string, desk bool) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	k, ok := p.find(name)
	switch {
	case !ok:
		return fmt.Errorf("%s: %w", name, errNoKnob)
	case k.hand && !desk:
		return fmt.Errorf("%s: %w", name, errHand)
	}
	if err := p.takes(k, to); err != nil {
		return err
	}
	if p.quirks.Fail && !desk && len(p.log)%2 == 0 {
		p.log = append(p.log, Change{p.clock(), name, p.values[name].Now, "(broke)", by})
		return errHalf
	}
	old := p.values[name]
	next := value{Now: to, Was: p.countsLocked(k), At: p.clock(), By: by, Lied: p.quirks.Lie && !desk}
	if old.Now == to && !old.Lied {
		return nil
	}
	p.values[name] = next
	p.log = append(p.log, Change{p.clock(), name, old.Now, to, by})
	if len(p.log) > 200 {
		p.log = p.log[100:]
	}
	return p.save()
}

// takes reports what is wrong with a value. A charter says all that a charter says, or is taken back.
func (p *Program) takes(k *knob, to string) error {
	if !k.charter {
		return k.takes(to)
	}
	if to == "" {
		return nil
	}
	said := map[string]bool{}
	for _, part := range strings.Split(to, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		of, ok := p.find(name)
		if !ok || !slices.Contains(p.charters, name) {
			return fmt.Errorf("%s: %w", name, errNoKnob)
		}
		if err := of.takes(value); err != nil {
			return err
		}
		said[name] = true
	}
	if len(said) != len(p.charters) && !strings.HasPrefix(k.name, charter+"#") {
		return fmt.Errorf("%s: %w: a charter says all of %s", k.name, errWord, strings.Join(p.charters, ", "))
	}
	return nil
}

func (k *knob) takes(to string) error {
	switch {
	case k.board:
		mode, _, ok := strings.Cut(to, ":")
		if !ok || !slices.Contains(k.words, strings.TrimSpace(mode)) {
			return fmt.Errorf("%s: %w: %q", k.name, errWord, to)
		}
	case len(k.words) > 0:
		if !slices.Contains(k.words, to) {
			return fmt.Errorf("%s: %w: %q; I know %s", k.name, errWord, to, strings.Join(k.words, ", "))
		}
	case to != k.endless:
		var n int
		if _, err := fmt.Sscanf(to, "%d", &n); err != nil || n < 0 || n > 40000 || fmt.Sprint(n) != to {
			return fmt.Errorf("%s: %w: %q", k.name, errWord, to)
		}
	}
	return nil
}

// countsLocked returns what counts now.
func (p *Program) countsLocked(k *knob) string {
	v, ok := p.values[k.name]
	if !ok {
		return k.start
	}
	if v.Lied || p.clock().Before(v.At.Add(p.short(k.late))) {
		return v.Was
	}
	return v.Now
}

func (p *Program) short(d time.Duration) time.Duration { return time.Duration(float64(d) / p.faster) }

// counts returns what counts of a setting now, whatever a reading says.
func (p *Program) counts(name string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	k, ok := p.find(name)
	if !ok {
		return ""
	}
	return p.countsLocked(k)
}

// reading returns what its interface says of every setting: what was accepted, and after some time
// what became of it. A stale one is what it said ten minutes ago.
func (p *Program) reading() map[string]string {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[string]string{}
	all := slices.Clone(p.knobs)
	for name := range p.values {
		if k, ok := p.find(name); ok && k.charter {
			all = append(all, *k)
		}
	}
	for i := range all {
		k := &all[i]
		v, ok := p.values[k.name]
		switch {
		case !ok:
			out[k.name] = k.start
		case p.quirks.Stale && p.clock().Before(v.At.Add(p.short(10*time.Minute))):
			out[k.name] = v.Was
		case v.Lied && !p.clock().Before(v.At.Add(p.short(k.late))):
			out[k.name] = v.Was
		default:
			out[k.name] = v.Now
		}
	}
	return out
}

// allow counts a call; false where there were too many in a minute.
func (p *Program) allow() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.most == 0 {
		return true
	}
	now := p.clock()
	p.calls = slices.DeleteFunc(p.calls, func(t time.Time) bool { return now.Sub(t) > p.short(time.Minute) })
	if len(p.calls) >= p.most {
		return false
	}
	p.calls = append(p.calls, now)
	return true
}

type kept struct {
	Values map[string]value `json:"values"`
	Quirks Quirks           `json:"quirks"`
}

func (p *Program) save() error {
	if p.file == "" {
		return nil
	}
	doc, err := json.MarshalIndent(kept{p.values, p.quirks}, "", " ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(p.file+".new", doc, 0o600); err != nil {
		return err
	}
	return os.Rename(p.file+".new", p.file)
}

// Keep reads what a program holds from a file, where there is one, and keeps it there.
func (p *Program) Keep(file string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.file = file
	doc, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return p.save()
	}
	if err != nil {
		return err
	}
	var k kept
	if err := json.Unmarshal(doc, &k); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	if p.quirks = k.Quirks; k.Values != nil {
		p.values = k.Values
	}
	return p.keepThings()
}

// Options are what a suite is started with.
type Options struct {
	Key    string  // what its interfaces ask for
	Faster float64 // by this factor all spans are shorter; 0 is 1
	Clock  func() time.Time
	Calls  int // a minute at each program; 0 for any number
	// Peers are the parlours of other houses, by their domains, which must let go whoever comes from there.
	Peers map[string]string
	// Asks is an address and port at which the counting house asks before each letter goes on (the
	// protocol in which mail servers delegate policy); empty where it asks nobody. When nobody answers,
	// the letter does not go.
	Asks string
	// House is the domain whose house this is.
	House string
}

// New returns the three programs, by name.
func New(o Options) map[string]*Program {
	if o.Clock == nil {
		o.Clock = time.Now
	}
	if o.Faster == 0 {
		o.Faster = 1
	}
	out := map[string]*Program{}
	for _, p := range []*Program{quayProgram(), parleyProgram(), ledgerProgram()} {
		p.key, p.faster, p.clock, p.most, p.values, p.peers, p.house = o.Key, o.Faster, o.Clock, o.Calls, map[string]value{}, o.Peers, o.House
		for _, s := range p.keeps {
			if p.shelves == nil {
				p.shelves = map[string]*things{}
			}
			p.shelves[s.name] = &things{shelf: &s, byID: map[string]*thing{}, byKey: map[string]string{}}
		}
		if p.Name == "ledger" && o.Asks != "" {
			p.ask = &asker{o.Asks}
		}
		out[p.Name] = p
	}
	return out
}

// Handler serves the interface of a program, its page, and its outside.
func (p *Program) Handler() http.Handler {
	mux := http.NewServeMux()
	switch p.Name {
	case "quay":
		p.quayRoutes(mux)
	case "parley":
		p.parleyRoutes(mux)
	default:
		p.ledgerRoutes(mux)
	}
	p.desk(mux)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		silent := p.quirks.Silent
		p.mu.Unlock()
		if silent && !strings.HasPrefix(r.URL.Path, "/desk") {
			_, _ = io.Copy(io.Discard, r.Body) // whether the caller went away is only seen behind what they sent
			<-r.Context().Done()
			return
		}
		mux.ServeHTTP(w, r)
	})
}

// Settle sets how a program misbehaves.
func (p *Program) Settle(q Quirks) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.quirks = q
}

// Turn changes a setting as somebody at the desk does.
func (p *Program) Turn(name, to string) error { return p.set(name, to, "the desk", true) }

// Reading and Counts are what tests look at.
func (p *Program) Reading() map[string]string { return maps.Clone(p.reading()) }

// Counts returns what counts of a setting now, whatever its interface says.
func (p *Program) Counts(name string) string { return p.counts(name) }
