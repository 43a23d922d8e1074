// Package videorooms stands beside a conference server: Janus with its plugin of video rooms, spoken to over its HTTP
// interface. A meeting is a room. Nobody enters a room without a token that was made for them, and the reception makes one
// only after it has asked us: so rules, partners, exceptions and their ends count when somebody comes in. Who is inside is
// asked for again and again, and put out after a no.
package videorooms

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

// Asked is what was answered to whether somebody may do something in a meeting.
type Asked struct {
	Yes        bool
	Conditions []string // what a yes still asks for, as AuthZEN's answer names it
	Says       string   // why not
}

// Config says where the server is, who administers it, and who is asked.
type Config struct {
	Server string   // as http://127.0.0.1:8088/janus
	Key    string   // the key with which rooms are made (admin_key of the plugin)
	Ours   []string // our own domains: whoever is of ours comes in
	Asks   func(ctx context.Context, address, action, meeting string) (Asked, error)
	Every  time.Duration // how often it is asked about those inside
	Stays  time.Duration // how long somebody inside stays about whom nobody answers
}

// Server is one such server.
type Server struct {
	Config
	mu   sync.Mutex
	was  map[string]time.Time // of who is inside, when it was last a yes
	sent map[string]pass      // passes that nobody came with yet
}

type pass struct {
	room, token string
	until       time.Time
}

// New returns the server that a configuration names.
func New(c Config) *Server {
	return &Server{Config: c, was: map[string]time.Time{}, sent: map[string]pass{}}
}

const (
	each   = "each of them"
	nobody = "nobody comes in"
)

var dialect = native.Dialect{
	Name: "videorooms", Title: "Meetings in rooms of a conference server", Services: []string{"meetings"},
	Tries: []string{"meetings.join", "meetings.join_early"},
	Lives: []native.Live{live("meetings.outsiders"), live("meetings.passcode"), live("meetings.early"), live("meetings.standing_room")},
	Holdings: []native.Holding{{Kind: "meeting", Name: "rooms", Title: "Rooms",
		Says: "Who presents, and lists of who has come, are not kept there.", Fields: []native.Field{
			{Name: "room", Of: "id"}, {Name: "title", Of: "name"}, {Name: "host", Of: "host"},
		}}},
	Shuts: []native.Shut{{Rule: "meetings.held",
		Says: "Who would have to wait until somebody lets them in does not come in: a room has no place to wait."}},
}

func live(rule string) native.Live {
	return native.Live{
		Path: "asks", On: each, Unanswered: "unanswered", Refuses: nobody, Rule: rule, Title: "Asks before somebody from outside comes in",
		Opened: "it asks before somebody comes in, and lets them in when nobody answers",
	}
}

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect { return &dialect }

// Read returns that the reception asks, as it does wherever it runs.
func (s *Server) Read(ctx context.Context) (map[string]string, error) {
	if _, err := s.rooms(ctx); err != nil { // a server that is away says nothing
		return nil, err
	}
	return map[string]string{"asks": each, "unanswered": nobody}, nil
}

// Write writes nothing: that it asks is how it was started.
func (s *Server) Write(_ context.Context, path, _ string) error {
	return beside.Refuse("%q is how the program beside the server was started; see its page in the documentation", path)
}

// secret derives a secret from the key, so that none has to be kept: of a room, what changes it; of a place inside, who
// it was given to.
func (s *Server) secret(parts ...string) string {
	h := hmac.New(sha256.New, []byte(s.Key))
	h.Write([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(h.Sum(nil))[:32]
}

// passcode is what somebody must type who was not told otherwise: eight digits.
func (s *Server) passcode(room string) string {
	out := []byte(s.secret("passcode", room)[:8])
	for i, c := range out {
		out[i] = '0' + c%10
	}
	return string(out)
}

func (s *Server) post(ctx context.Context, at string, body map[string]any) (answer, error) {
	var out answer
	body["transaction"] = rand.Text()[:12]
	b, err := json.Marshal(body)
	if err != nil {
		return out, err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, at, bytes.NewReader(b))
	if err != nil {
		return out, err
	}
	return out, receive(q, &out)
}

func receive(q *http.Request, out *answer) error {
	q.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(io.LimitReader(resp.Body, 8<<20)).Decode(out); err != nil {
		return fmt.Errorf("the conference server answers what cannot be read: %w", err)
	}
	if out.Janus == "error" {
		return fmt.Errorf("the conference server says %d: %s", out.Error.Code, out.Error.Reason)
	}
	return nil
}

// answer is what the server says, as far as it is read here.
type answer struct {
	Janus string `json:"janus"`
	Data  struct {
		ID int64 `json:"id"`
	} `json:"data"`
	Error struct {
		Code   int    `json:"code"`
		Reason string `json:"reason"`
	} `json:"error"`
	Plugin struct {
		Data said `json:"data"`
	} `json:"plugindata"`
}

type said struct {
	Videoroom    string        `json:"videoroom"`
	Code         int           `json:"error_code"`
	Error        string        `json:"error"`
	Rooms        []room        `json:"list"`
	Participants []participant `json:"participants"`
	Leaving      any           `json:"leaving"` // ok where it is oneself, else who
}

type room struct {
	Room        string `json:"room"`
	Description string `json:"description"`
}

type participant struct {
	ID string `json:"id"`
}

// The plugin's codes that matter here.
const (
	noSuchRoom   = 426
	roomIsThere  = 427
	missingField = 429
	unauthorised = 433
)

// refused is a no of the plugin.
type refused struct{ said }

func (r *refused) Error() string { return fmt.Sprintf("%s (%d)", r.said.Error, r.Code) }

// session opens a session with the plugin at hand, and closes it again.
func (s *Server) session(ctx context.Context, do func(at string) error) error {
	x, err := s.post(ctx, s.Server, map[string]any{"janus": "create"})
	if err != nil {
		return err
	}
	in := fmt.Sprintf("%s/%d", s.Server, x.Data.ID)
	defer func() { _, _ = s.post(context.WithoutCancel(ctx), in, map[string]any{"janus": "destroy"}) }()
	y, err := s.post(ctx, in, map[string]any{"janus": "attach", "plugin": "janus.plugin.videoroom"})
	if err != nil {
		return err
	}
	return do(fmt.Sprintf("%s/%d", in, y.Data.ID))
}

// order asks the plugin for something that it answers at once.
func (s *Server) order(ctx context.Context, body map[string]any) (out said, err error) {
	err = s.session(ctx, func(at string) error {
		x, err := s.post(ctx, at, map[string]any{"janus": "message", "body": body})
		if out = x.Plugin.Data; err == nil && out.Code != 0 {
			err = &refused{out}
		}
		return err
	})
	return out, err
}

func isCode(err error, code int) bool {
	r, ok := err.(*refused) //nolint:errorlint // it is never wrapped
	return ok && r.Code == code
}

// The title of a room says whose it is, since the server keeps no host.
const hosted = " · host "

func (s *Server) rooms(ctx context.Context) (map[string]native.Kept, error) {
	x, err := s.order(ctx, map[string]any{"request": "list", "admin_key": s.Key})
	if err != nil {
		return nil, err
	}
	out := map[string]native.Kept{}
	for _, r := range x.Rooms {
		title, host, _ := strings.Cut(r.Description, hosted)
		out[r.Room] = native.Kept{ID: r.Room, Fields: map[string]string{"room": r.Room, "title": title, "host": host}}
	}
	return out, nil
}

func only(kind string) error {
	if kind != "rooms" {
		return beside.Refuse("there are no %s", kind)
	}
	return nil
}

// List hands over all rooms.
func (s *Server) List(ctx context.Context, kind string, fn func(native.Kept) error) error {
	if err := only(kind); err != nil {
		return err
	}
	all, err := s.rooms(ctx)
	if err != nil {
		return err
	}
	return beside.Each(all, fn)
}

// One returns a room; nil where it is not there.
func (s *Server) One(ctx context.Context, kind, id string) (*native.Kept, error) {
	if err := only(kind); err != nil {
		return nil, err
	}
	all, err := s.rooms(ctx)
	if k, ok := all[id]; ok && err == nil {
		return &k, nil
	}
	return nil, err
}

// Put makes a room that nobody enters without a token, or gives one another title.
func (s *Server) Put(ctx context.Context, kind, _ string, f map[string]string) (string, error) {
	if err := only(kind); err != nil {
		return "", err
	}
	id, title := f["room"], f["title"]
	if id == "" || len(id) > 200 || strings.Contains(title, hosted) {
		return "", beside.Refuse("no room is called %q, with the title %q", id, title)
	}
	if f["host"] != "" {
		a, err := addr.Parse(f["host"])
		if err != nil {
			return "", beside.Refuse("%q is no host's address", f["host"])
		}
		title += hosted + a.String()
	}
	_, err := s.order(ctx, map[string]any{
		"request": "create", "admin_key": s.Key, "room": id, "description": title, "secret": s.secret("room", id), "pin": s.passcode(id),
		"allowed": []string{rand.Text()}, "permanent": true, "publishers": 50, "notify_joining": true,
	})
	if isCode(err, roomIsThere) {
		_, err = s.order(ctx, map[string]any{"request": "edit", "room": id, "secret": s.secret("room", id), "new_description": title,
			"permanent": true})
	}
	if isCode(err, unauthorised) {
		return "", beside.Refuse("the room %q was made by somebody else, and only they change it", id)
	}
	return id, err
}

// Drop ends a room; whoever is inside is out.
func (s *Server) Drop(ctx context.Context, kind, id string) error {
	if err := only(kind); err != nil {
		return err
	}
	_, err := s.order(ctx, map[string]any{"request": "destroy", "room": id, "secret": s.secret("room", id), "permanent": true})
	if isCode(err, noSuchRoom) {
		return nil
	}
	if isCode(err, unauthorised) {
		return beside.Refuse("the room %q was made by somebody else, and only they end it", id)
	}
	return err
}

// Try has somebody who was never there ask at the reception and go in, with what they were given; from the other end is
// looked whether they are inside. Joining is tried as if the host were there, joining early as if they were not. Where
// people are inside, nothing is tried: they would see it.
func (s *Server) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	if !slices.Contains(dialect.Tries, a.Action) || a.As != native.Stranger {
		return out, nil
	}
	who, err := addr.Parse(a.From)
	if err != nil {
		return out, beside.Refuse("%q is no address", a.From)
	}
	inside, err := s.Inside(ctx, a.Place)
	if err != nil {
		return out, err
	}
	if len(inside) > 0 {
		out.Says = "people are inside, who would see it"
		return out, nil
	}
	p, says, err := s.give(ctx, a.Place, who, a.Action == "meetings.join")
	if says == noPlace {
		out.Says = says
		return out, nil
	}
	out.Known = true
	if err != nil || says != "" {
		out.Says = says
		return out, err
	}
	if p.Passcode == "" { // whoever is invited knows it
		p.Passcode = s.passcode(a.Place)
	}
	j, says, err := s.Join(ctx, p, p.Passcode)
	if err != nil || says != "" {
		out.Says = says
		return out, err
	}
	defer j.Leave(ctx)
	if inside, err = s.Inside(ctx, a.Place); err != nil {
		return out, err
	}
	if out.Admitted = slices.Contains(inside, p.ID); out.Admitted {
		out.Says = "inside"
	} else {
		out.Says = "let in, and not inside"
	}
	return out, s.used(ctx, a.Place, inside)
}

// Reception serves passes to whoever signs people in, which knows the token.
func (s *Server) Reception(token string) http.Handler {
	return beside.Guarded(token, http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		var x struct {
			Meeting string `json:"meeting"`
			Address string `json:"address"`
		}
		if !beside.Body(w, q, &x) {
			return
		}
		p, says, err := s.Enter(q.Context(), x.Meeting, x.Address)
		if err == nil && says != "" {
			err = beside.RefuseAs(http.StatusForbidden, says)
		}
		beside.Answer(w, p, err)
	}))
}
