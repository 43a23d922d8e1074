package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/secret"
	"wexillum.example/internal/store"
)

// Mode is what we do to a system (systems.md §1).
type Mode string

// A new system is looked at.
const (
	ModeLook   Mode = "look"   // read only
	ModeCarry  Mode = "carry"  // read and write
	ModePaused Mode = "paused" // neither
)

// What a system puts back by itself.
const (
	PutBackNo     = "no"
	PutBackBeyond = "beyond" // what was loosened behind our back
)

// System is one server that carries some of our services.
type System struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Dialect string `json:"dialect"`
	Address string `json:"address"`
	Key     string `json:"key"` // where its key is: file:PATH or env:NAME; never the key itself
	Mode    Mode   `json:"mode"`
	Minutes int    `json:"minutes"` // from the end of one reading to the next
	PutBack string `json:"put_back"`
	Since   stamp  `json:"since,omitempty"`   // since when it is carried
	Nightly bool   `json:"nightly,omitempty"` // what can be tried there is tried every night
	// Sources are kinds of inventory that people make there, so that what is found flows in.
	Sources []string `json:"sources,omitempty"`
	// Brake is how many guests, grants and links may be taken away in a day before somebody is asked; 0 is
	// the start, negative any number.
	Brake    int   `json:"brake,omitempty"`
	Released stamp `json:"released,omitempty"` // when somebody last said that what waits may go
	// Described is its dialect as it said when it was added, of one that describes itself.
	Described *native.Dialect `json:"described,omitempty"`
}

// Speaks is the dialect that a system is spoken to in.
func (x *System) Speaks() *native.Dialect { return x.dialect() }

func (x *System) dialect() *native.Dialect {
	if x.Described != nil {
		return x.Described
	}
	d, _ := native.ByName(x.Dialect)
	return d
}

// describes is a connector to a system that says itself what it can hold.
type describes interface {
	Describe(ctx context.Context) (*native.Dialect, error)
}

// describe asks a system that describes itself what it can hold; nil of one that does not.
func (s *Service) describe(ctx context.Context, x *System) (*native.Dialect, error) {
	if x.Dialect != native.Described {
		return nil, nil
	}
	c, err := s.connector(x)
	if err != nil {
		return nil, err
	}
	d, ok := c.(faulty).Connector.(describes)
	if !ok {
		return nil, errors.New("this service does not ask systems what they can hold")
	}
	out, err := d.Describe(ctx)
	if err != nil {
		return nil, faultOf(err)
	}
	return out, nil
}

// sameDescription refuses a system that describes itself otherwise than when somebody looked at it.
func (s *Service) sameDescription(ctx context.Context, x *System) error {
	now, err := s.describe(ctx, x)
	if err != nil || now == nil {
		return err
	}
	a, err := json.Marshal(now)
	if err != nil {
		return err
	}
	b, err := json.Marshal(x.Described)
	if err != nil {
		return err
	}
	if !bytes.Equal(a, b) {
		return &systemFault{says: "it describes itself otherwise than it did, and is not read; what it says now is taken with system set " +
			x.ID + " --describe, and looked at"}
	}
	return nil
}

// CarriedSetting is how one setting of a system stands.
type CarriedSetting struct {
	System    string      `json:"system"`
	Path      string      `json:"path"`
	State     StepState   `json:"state"`
	Meant     string      `json:"meant"`
	Was       string      `json:"was,omitempty"` // there, before it was written
	Turn      native.Turn `json:"turn,omitempty"`
	Cause     string      `json:"cause,omitempty"`
	Made      stamp       `json:"made,omitempty"`
	Sent      stamp       `json:"sent,omitempty"`
	Counts    stamp       `json:"counts,omitempty"` // from when it is expected to count; 0 where nobody knows
	Confirmed stamp       `json:"confirmed,omitempty"`
	Tries     int         `json:"tries,omitempty"`
	Next      stamp       `json:"next,omitempty"`
	Problem   string      `json:"problem,omitempty"`
	Drift     *Drift      `json:"drift,omitempty"`
	BackOn    string      `json:"back_on,omitempty"` // the day on which it was put back by itself last
	Back      int         `json:"back,omitempty"`    // and how often on that day
}

// Drift is a setting that was confirmed and is found otherwise.
type Drift struct {
	Found    string `json:"found"`
	After    stamp  `json:"after"`            // it was still right then
	Since    stamp  `json:"since"`            // it was found then
	Looked   bool   `json:"looked,omitempty"` // it was found while the system was only looked at
	Accepted stamp  `json:"accepted,omitempty"`
	By       string `json:"by,omitempty"`
	Why      string `json:"why,omitempty"`
}

// stamp is a moment that is written into records as RFC 3339 has it.
type stamp moment.Moment

// MarshalText writes nothing for the zero moment.
func (m stamp) MarshalText() ([]byte, error) {
	if m == 0 {
		return nil, nil
	}
	return []byte(moment.Moment(m).String()), nil
}

// UnmarshalText reads what MarshalText wrote.
func (m *stamp) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*m = 0
		return nil
	}
	at, err := moment.Parse(string(b))
	*m = stamp(at)
	return err
}

// StepState says how far the writing of a setting is (systems.md §4).
type StepState string

// From waiting to confirmed, and what may become of it instead.
const (
	StepWaiting   StepState = "waiting"
	StepSent      StepState = "sent"
	StepSettling  StepState = "settling"
	StepConfirmed StepState = "confirmed"
	StepDiffers   StepState = "differs"
	StepFailed    StepState = "failed"
	StepByHand    StepState = "by_hand"
)

// open reports whether a setting is on its way.
func (x *CarriedSetting) open() bool {
	return x != nil && (x.State == StepWaiting || x.State == StepSent || x.State == StepSettling || x.State == StepFailed)
}

var systemID = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,59}$`)

func (x *System) check() error {
	if !systemID.MatchString(x.ID) {
		return &Invalid{"id", x.ID, "write small letters, digits, dots, lines and hyphens, at most 60"}
	}
	if x.Name = strings.TrimSpace(x.Name); x.Name == "" || len(x.Name) > 200 {
		return &Invalid{"name", x.Name, "say in 1 to 200 letters what it is called"}
	}
	names := []string{native.Described}
	for _, d := range native.Dialects() {
		names = append(names, d.Name)
	}
	if !slices.Contains(names, x.Dialect) {
		return &Invalid{"dialect", x.Dialect, "write " + strings.Join(names, ", ")}
	}
	if u, err := url.Parse(x.Address); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return &Invalid{"address", x.Address, "write http://host:port or https://host, without a name and password"}
	}
	if _, ok := strings.CutPrefix(x.Key, "file:/"); !ok {
		if name, ok := strings.CutPrefix(x.Key, "env:"); !ok || name == "" {
			return &Invalid{"key", "…",
				"say where its key is: file:/path/of/a/file or env:NAME of an environment variable of the service; never the key itself"}
		}
	}
	if err := oneOfWords("mode", string(x.Mode), string(ModeLook), string(ModeCarry), string(ModePaused)); err != nil {
		return err
	}
	if err := oneOfWords("put_back", x.PutBack, PutBackNo, PutBackBeyond); err != nil {
		return err
	}
	if x.dialect() == nil {
		return &Invalid{"dialect", x.Dialect, "it has not said what it can hold"}
	}
	for _, kind := range x.Sources {
		if h, ok := x.dialect().Holding(kind); !ok || !h.Source {
			return &Invalid{"sources", kind, "it can be the source of " + cmp.Or(strings.Join(x.dialect().CanBeSource(), ", "), "nothing")}
		}
	}
	if x.Minutes < 1 || x.Minutes > 1440 {
		return &Invalid{"minutes", fmt.Sprint(x.Minutes), "write 1 to 1440 minutes"}
	}
	return nil
}

// SetConnector says how systems are spoken to. Without it none is worked on.
func (s *Service) SetConnector(new func(dialect, address, key string) (Connector, error)) {
	s.connect = new
}

// Connector reads and writes what one system holds, in its own words, and tries it from outside.
type Connector interface {
	Read(ctx context.Context) (map[string]string, error)
	Write(ctx context.Context, path, value string) error
	// Try attempts an action from outside, as somebody made for the trial.
	Try(ctx context.Context, a native.Attempt) (native.Attempted, error)
	// List hands over all that the system keeps of a kind, however many there are.
	List(ctx context.Context, kind string, fn func(native.Kept) error) error
	// One returns a record by its id there; nil where it is not there.
	One(ctx context.Context, kind, id string) (*native.Kept, error)
	// Put makes a record, or changes the one with an id, and returns its id. It may be sent twice.
	Put(ctx context.Context, kind, id string, fields map[string]string) (string, error)
	// Drop takes a record away. One that is not there is no fault.
	Drop(ctx context.Context, kind, id string) error
}

func (s *Service) connector(x *System) (Connector, error) {
	if s.connect == nil {
		return nil, errors.New("this service speaks to no systems")
	}
	key, err := secret.At(x.Key)
	if err != nil {
		return nil, err
	}
	c, err := s.connect(x.Dialect, x.Address, key)
	return faulty{c}, err
}

// systemFault is what went wrong at a system rather than here: it is noted at the system and tried again.
// What lies below stays hidden, so that a system that is away is not taken for the database.
type systemFault struct {
	says        string
	busy, final bool // it asks to be left alone for a while; it says no for good
}

func (e *systemFault) Error() string { return e.says }

func faultOf(err error) error {
	if err == nil {
		return nil
	}
	out := &systemFault{says: err.Error()}
	var told interface {
		Busy() bool
		Final() bool
	}
	if errors.As(err, &told) {
		out.busy, out.final = told.Busy(), told.Final()
	}
	return out
}

// faulty tells faults of a system from ours.
type faulty struct{ Connector }

func (f faulty) List(ctx context.Context, kind string, fn func(native.Kept) error) error {
	var ours error
	err := f.Connector.List(ctx, kind, func(k native.Kept) error {
		ours = fn(k)
		return ours
	})
	if ours != nil {
		return ours
	}
	return faultOf(err)
}

func (f faulty) One(ctx context.Context, kind, id string) (*native.Kept, error) {
	k, err := f.Connector.One(ctx, kind, id)
	return k, faultOf(err)
}

func (f faulty) Put(ctx context.Context, kind, id string, fields map[string]string) (string, error) {
	id, err := f.Connector.Put(ctx, kind, id, fields)
	return id, faultOf(err)
}

func (f faulty) Drop(ctx context.Context, kind, id string) error {
	return faultOf(f.Connector.Drop(ctx, kind, id))
}

// Systems lists the systems, by id.
func (s *Service) Systems(ctx context.Context) ([]System, error) { return SystemsIn(ctx, s.store) }

// SystemsIn lists the systems that a database knows.
func SystemsIn(ctx context.Context, st *store.Store) (out []System, err error) {
	err = st.Records(ctx, "system", "", func(_ string, doc []byte) error {
		var x System
		err := json.Unmarshal(doc, &x)
		out = append(out, x)
		return err
	})
	slices.SortFunc(out, func(a, b System) int { return cmp.Compare(a.ID, b.ID) })
	return
}

// System finds a system by its id.
func (s *Service) System(ctx context.Context, id string) (*System, error) {
	doc, err := s.store.Record(ctx, "system", id)
	if err != nil {
		return nil, err
	}
	if doc == nil {
		return nil, fmt.Errorf("%w: there is no system %q", ErrNotFound, id)
	}
	x := &System{}
	return x, json.Unmarshal(doc, x)
}

// TestSystem reads a system once without keeping anything: whether it is reached, how much of it is
// understood, and what it would be made to hold.
func (s *Service) TestSystem(ctx context.Context, x System) (*SystemView, error) {
	if x.Described == nil {
		if err := s.described(ctx, &x); err != nil {
			return nil, err
		}
	}
	if err := x.check(); err != nil {
		return nil, err
	}
	c, err := s.connector(&x)
	if err != nil {
		return nil, &Invalid{"key", "…", err.Error()}
	}
	began := s.Now()
	values, err := c.Read(ctx)
	if err != nil {
		return nil, &Invalid{"address", x.Address, "it cannot be read: " + err.Error()}
	}
	return s.viewSystem(ctx, s.State(), &x, &store.Reading{System: x.ID, At: began, Seen: s.Now(), Values: values}, nil, store.Work{}, false)
}

// described asks a system that describes itself, and puts what it says into x.
func (s *Service) described(ctx context.Context, x *System) (err error) {
	if x.Dialect == native.Described && s.connect != nil {
		if x.Described, err = s.describe(ctx, x); err != nil {
			return &Invalid{"address", x.Address, "it does not say what it can hold: " + err.Error()}
		}
	}
	return nil
}

// AddSystem adds a system that was reached. It is looked at, whatever x says.
func (s *Service) AddSystem(ctx context.Context, who Who, why string, x System) (*SystemView, error) {
	x.Mode = ModeLook
	x.PutBack, x.Minutes = cmp.Or(x.PutBack, PutBackNo), cmp.Or(x.Minutes, 5)
	if err := s.described(ctx, &x); err != nil {
		return nil, err
	}
	if _, err := s.TestSystem(ctx, x); err != nil {
		return nil, err
	}
	err := s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		was, err := t.Record("system", x.ID)
		if err != nil {
			return err
		}
		if was != nil {
			return fmt.Errorf("%w: there is a system %q already", ErrConflict, x.ID)
		}
		others, err := s.Systems(ctx)
		if err != nil {
			return err
		}
		for _, o := range others { // one system carries a service (systems.md §1)
			for _, service := range o.dialect().Services {
				if slices.Contains(x.dialect().Services, service) {
					return fmt.Errorf("%w: %s carries %s already; one system carries a service", ErrConflict, o.Name, service)
				}
			}
		}
		return putJSON(t, "system", x.ID, x)
	})
	if err != nil {
		return nil, err
	}
	return s.ReadSystem(ctx, who, x.ID)
}

// SystemPatch is what is changed of a system; nil leaves as it is.
type SystemPatch struct {
	Name, Address, Key, PutBack *string
	Sources                     *[]string
	Brake                       *int
	Nightly                     *bool
	Mode                        *Mode
	Minutes                     *int
	Describe                    bool   // take what it says now that it can hold; it is looked at until somebody carries it again
	Digest                      string // of the steps that were shown, where it is to be carried
}

// ChangeSystem changes a system. To switch carrying on, the steps that it will bring have to have been
// seen: their digest is given.
func (s *Service) ChangeSystem(ctx context.Context, who Who, why, id string, p SystemPatch) (*SystemView, error) {
	if strings.TrimSpace(why) == "" {
		return nil, &Invalid{"why", why, "say why"}
	}
	if p.Mode != nil && *p.Mode == ModeCarry {
		v, err := s.SystemView(ctx, id)
		if err != nil {
			return nil, err
		}
		if v.System.Mode != ModeCarry && p.Digest != v.Digest {
			return nil, fmt.Errorf("%w: carrying it writes %d settings there; look at them and send the digest %s", ErrConflict, v.ToWrite(),
				v.Digest)
		}
	}
	var says *native.Dialect
	if p.Describe {
		x, err := s.System(ctx, id)
		if err != nil {
			return nil, err
		}
		if x.Dialect != native.Described {
			return nil, &Invalid{"describe", "true", "it is a " + x.Dialect + ", which does not describe itself"}
		}
		if err := s.described(ctx, x); err != nil {
			return nil, err
		}
		says = x.Described
	}
	err := s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record("system", id)
		if err != nil {
			return err
		}
		if doc == nil {
			return fmt.Errorf("%w: there is no system %q", ErrNotFound, id)
		}
		var x System
		if err := json.Unmarshal(doc, &x); err != nil {
			return err
		}
		if says != nil {
			x.Described, x.Mode = says, ModeLook
		}
		set := func(to *string, from *string) {
			if from != nil {
				*to = *from
			}
		}
		set(&x.Name, p.Name)
		set(&x.Address, p.Address)
		set(&x.Key, p.Key)
		set(&x.PutBack, p.PutBack)
		if p.Mode != nil {
			if x.Mode != ModeCarry && *p.Mode == ModeCarry {
				x.Since = stamp(s.Now())
			}
			x.Mode = *p.Mode
		}
		if p.Minutes != nil {
			x.Minutes = *p.Minutes
		}
		if p.Nightly != nil {
			x.Nightly = *p.Nightly
		}
		if p.Sources != nil {
			x.Sources = slices.Compact(slices.Sorted(slices.Values(*p.Sources)))
		}
		if p.Brake != nil {
			x.Brake = *p.Brake
		}
		if err := x.check(); err != nil {
			return err
		}
		return putJSON(t, "system", id, x)
	})
	if err != nil {
		return nil, err
	}
	return s.SystemView(ctx, id)
}

// EndSystem takes a system away. What it holds stays as it is there.
func (s *Service) EndSystem(ctx context.Context, who Who, why, id string) error {
	if strings.TrimSpace(why) == "" {
		return &Invalid{"why", why, "say why"}
	}
	err := s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		ended, err := t.EndRecord("system", id)
		if err == nil && !ended {
			err = fmt.Errorf("%w: there is no system %q", ErrNotFound, id)
		}
		if err != nil {
			return err
		}
		all, err := s.settingsOf(ctx, id)
		if err != nil {
			return err
		}
		for path := range all {
			if _, err := t.EndRecord("system_setting", id+" "+path); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.store.ForgetSystem(ctx, id)
}

// settingsOf returns how the settings of a system stand, by path.
func (s *Service) settingsOf(ctx context.Context, id string) (map[string]*CarriedSetting, error) {
	out := map[string]*CarriedSetting{}
	err := s.store.Records(ctx, "system_setting", id+" ", func(_ string, doc []byte) error {
		x := &CarriedSetting{}
		err := json.Unmarshal(doc, x)
		out[x.Path] = x
		return err
	})
	return out, err
}
