// Package xmppchat stands beside an XMPP server (RFC 6120, RFC 6121): Prosody with its module firewall. It writes the
// module's rules whole, has them compiled first (a rules file that does not compile lets everything through), and
// tries by sending messages between accounts at both ends.
package xmppchat

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"mellium.im/sasl"
	"mellium.im/xmlstream"
	"mellium.im/xmpp"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/stanza"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

// Account is an account made for trials, at our server or at somebody else's.
type Account struct {
	Address  string // as trial@partner.example
	Password string
	Server   string // host and port that its clients connect to
}

// Config says where the rules are, and how the server is made to take them.
type Config struct {
	Rules  string                                       // the file of rules, which the server's configuration names
	Hosts  []string                                     // our hosts: of our people first, then of guests and rooms
	Guests string                                       // the host of guests; empty for none
	Check  func(ctx context.Context, file string) error // compiles a file of rules
	Reload func(ctx context.Context) error              // makes the server read its rules again
	CA     *x509.CertPool                               // whom servers' certificates are from; nil for the machine's own
	Ours   Account                                      // of ours, for trials
	Rooms  string                                       // the host of rooms; empty for none
	Keeper Account                                      // who administers it
	Out    []Account                                    // elsewhere, for trials: at most one for each domain
}

// Server is one such server.
type Server struct {
	Config
	keeper *Client // who keeps rooms, signed in; nil until there is something to do
	mu     sync.Mutex
}

var dialect = native.Dialect{
	Name: "xmppchat", Title: "Chat over XMPP", Services: []string{"chat"}, Sets: []native.Scope{native.ToPeople},
	Tries: []string{"chat.message", "chat.call"},
	Dials: []native.Dial{
		{Path: "calls", Title: "Calls with people elsewhere (XEP-0166)", Rule: "chat.calls", Words: []string{"refused", "let through"},
			Span: time.Second, Charter: true},
		{Path: "presence", Title: "Who elsewhere sees presence", Rule: "chat.presence", Words: []string{"nobody", "contacts", ""},
			Span: time.Second, Charter: true},
		{Path: "guests edit", Title: "Guests correct their messages (XEP-0308)", Rule: "chat.guest_edit",
			Words: []string{"refused", "let through"}, Span: time.Second},
		{Path: "guests attach", Title: "Guests send files (XEP-0066)", Rule: "chat.guest_attach", Words: []string{"refused", "let through"},
			Span: time.Second},
	},
	Boards: []native.Board{
		{Path: "from", Title: "Domains whose people write to us", Rule: "chat.federation", Keys: []string{"chat.in"}, Only: "only", But: "not",
			Span: time.Second, Charter: true, Single: true},
		{Path: "to", Title: "Domains that our people write to", Rule: "chat.federation", Keys: []string{"chat.out"}, Only: "only", But: "not",
			Span: time.Second, Charter: true, Single: true},
	},
}

// New returns the server that a configuration names. Rules that are not there yet are written: shut.
func New(ctx context.Context, c Config) (*Server, error) {
	s := &Server{Config: c}
	if _, err := os.Stat(c.Rules); errors.Is(err, os.ErrNotExist) {
		return s, beside.Replace(c.Rules, s.text(start()))
	}
	return s, nil
}

func start() map[string]string {
	return map[string]string{"from": "only:", "to": "only:", "calls": "refused", "presence": "nobody", "guests edit": "refused",
		"guests attach": "refused"}
}

// withRooms is the dialect of a server that has a host of rooms.
var withRooms = func() native.Dialect {
	d := dialect
	d.Holdings = []native.Holding{
		{Kind: "space", Name: "rooms", Title: "Rooms", Says: "Who of ours is in a room is not kept there.",
			Fields: []native.Field{{Name: "room", Of: "id"}, {Name: "title", Of: "name"}}},
		{Kind: "grant", Name: "members", Title: "Members of rooms",
			Says: "A room has no members who only read: whoever has the role view is not let in.", Fields: []native.Field{
				{Name: "who", Of: "address"}, {Name: "room", Of: "resource", Spaces: true},
				{Name: "may", Of: "role", Words: map[string]string{"contribute": "member", "manage": "keeper"}},
			}},
	}
	return d
}()

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect {
	if s.Rooms != "" {
		return &withRooms
	}
	return &dialect
}

var order = []string{"from", "to", "calls", "presence", "guests edit", "guests attach"}

// setOf begins the path of a set of values of one of our people: their address follows.
const setOf = "charter:@"

// paths are what a file of rules says, in its order: the general values, and then sets of people.
func paths(v map[string]string) []string {
	out := slices.Clone(order)
	for _, k := range slices.Sorted(maps.Keys(v)) {
		if strings.HasPrefix(k, setOf) {
			out = append(out, k)
		}
	}
	return out
}

// rules are written one after the other: the first that fits decides.
type rules struct{ strings.Builder }

func (r *rules) add(what string, conditions ...string) {
	r.WriteString("\n" + strings.Join(append(slices.Clone(conditions), what), "\n") + "\n")
}

func bounce(why string) string { return "BOUNCE=policy-violation (" + why + ")" }

// list writes a list of domains: whoever is on it, and then all others; each of that of one of ours where conditions say so.
func (r *rules) list(path, text, side string, conditions ...string) {
	mode, names, _ := native.ParseBoard(text)
	hit, else_ := "PASS.", bounce(path+": this domain is not admitted")
	if mode == "not" {
		hit, else_ = else_, hit
	}
	for _, out := range []bool{true, false} { // what is taken out again comes first
		for _, n := range names {
			name, is := strings.CutPrefix(n, "!")
			if is != out {
				continue
			}
			what := hit
			if out {
				what = else_
			}
			on := side + ": <*>@" + name
			if below, ok := strings.CutPrefix(name, "*."); ok {
				on = side + ": <*>@<<.+%." + luaQuote(below) + ">>"
			} else if strings.Contains(name, "@") {
				on = side + ": " + name
			}
			r.add(what, append(slices.Clone(conditions), on)...)
		}
	}
	r.add(else_, conditions...)
}

// text writes values as rules of the module. What is said in comments is said once more in what counts, so that a change
// by hand of either is noticed.
func (s *Server) text(v map[string]string) string {
	b := &rules{}
	for _, k := range paths(v) {
		fmt.Fprintf(b, "# %s = %s\n", k, v[k])
	}
	guests := func() {
		if s.Guests == "" {
			return
		}
		for _, k := range slices.Sorted(maps.Keys(payloads)) {
			if v[k] == "refused" {
				b.add(bounce(k), "FROM: <*>@"+s.Guests, "INSPECT: "+payloads[k])
			}
		}
	}
	people := func(side string, do func(words map[string]string, who string)) { // with what counts for them in place of the general values
		for _, k := range paths(v)[len(order):] {
			words, _ := native.ParseCharter(v[k])
			do(words, side+": "+strings.TrimPrefix(k, setOf))
		}
	}
	const call = "PAYLOAD: urn:xmpp:jingle:1"
	b.WriteString("\n::deliver\n")
	b.add("PASS.", "TYPE: error") // a refusal goes back
	guests()
	for _, h := range s.Hosts {
		b.add("PASS.", "FROM: <*>@"+h)
		b.add("PASS.", "FROM: "+h)
	}
	people("TO", func(words map[string]string, who string) {
		if words["calls"] == "refused" {
			b.add(bounce("calls with people elsewhere"), who, call)
		}
		b.list("from", words["from"], "FROM", who)
	})
	if v["calls"] == "refused" {
		b.add(bounce("calls with people elsewhere"), call)
	}
	b.list("from", v["from"], "FROM")
	b.WriteString("\n::deliver_remote\n")
	b.add("PASS.", "TYPE: error")
	guests()
	people("FROM", func(words map[string]string, who string) {
		if words["presence"] == "nobody" {
			b.add("DROP.", who, "KIND: presence")
		}
		if words["calls"] == "refused" {
			b.add(bounce("calls with people elsewhere"), who, call)
		}
		b.list("to", words["to"], "TO", who)
	})
	if v["presence"] == "nobody" {
		if conditions := []string{"KIND: presence"}; s.Rooms != "" { // who is in a room is the room's to say
			b.add("DROP.", append(conditions, "NOT FROM: <*>@"+s.Rooms)...)
		} else {
			b.add("DROP.", conditions...)
		}
	}
	if v["calls"] == "refused" {
		b.add(bounce("calls with people elsewhere"), call)
	}
	b.list("to", v["to"], "TO")
	return b.String()
}

// payloads of guests that a rule is about.
var payloads = map[string]string{"guests edit": "{urn:xmpp:message-correct:0}replace", "guests attach": "{jabber:x:oob}x"}

// luaQuote writes a text so that a pattern of Lua means it.
func luaQuote(s string) string {
	return regexp.MustCompile(`[^a-zA-Z0-9]`).ReplaceAllString(s, "%$0")
}

// read returns the values that a file of rules says, and whether it is as it was written.
func (s *Server) read() (v map[string]string, byHand bool, err error) {
	b, err := os.ReadFile(s.Rules)
	if err != nil {
		return nil, false, err
	}
	v = start()
	for _, l := range strings.Split(string(b), "\n") {
		if k, value, ok := strings.Cut(strings.TrimPrefix(l, "# "), " = "); ok && strings.HasPrefix(l, "# ") &&
			(slices.Contains(order, k) || strings.HasPrefix(k, setOf)) {
			v[k] = strings.TrimSpace(value)
		}
	}
	return v, string(b) != s.text(v), nil
}

// Read returns the settings as the file of rules says them. Which rules the server runs it does not tell: a trial does.
func (s *Server) Read(context.Context) (map[string]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	v, byHand, err := s.read()
	if err != nil {
		return nil, err
	}
	if byHand {
		for _, k := range paths(v) {
			v[k] = "the rules were changed by hand"
		}
	}
	return v, nil
}

// fits checks a value of a setting, and writes a list as lists are written.
func (s *Server) fits(path string, value *string) error {
	if who, ok := strings.CutPrefix(path, setOf); ok {
		return s.fitsSet(who, value)
	}
	if !slices.Contains(order, path) {
		return beside.Refuse("there is no setting %q", path)
	}
	if path == "from" || path == "to" {
		list, err := beside.DomainList(*value, true)
		*value = list
		return err
	}
	i := slices.IndexFunc(dialect.Dials, func(d native.Dial) bool { return d.Path == path })
	if *value == "" || !slices.Contains(dialect.Dials[i].Words, *value) {
		return beside.Refuse("%s is one of %s, not %q", path, strings.Trim(fmt.Sprintf("%q", dialect.Dials[i].Words), "[]"), *value)
	}
	return nil
}

// fitsSet checks a set of values of one of our people: it says everything that sets say.
func (s *Server) fitsSet(who string, value *string) error {
	a, err := addr.Parse(who)
	if err != nil || a.String() != who || len(s.Hosts) == 0 || a.Domain().String() != s.Hosts[0] {
		return beside.Refuse("%q is nobody of %s", who, strings.Join(s.Hosts[:min(1, len(s.Hosts))], ""))
	}
	if *value == "" { // it is taken back
		return nil
	}
	words, err := native.ParseCharter(*value)
	if err != nil {
		return beside.Refuse("%v", err)
	}
	for _, k := range []string{"calls", "presence", "from", "to"} {
		w := words[k]
		if err := s.fits(k, &w); err != nil {
			return err
		}
		words[k] = w
	}
	if len(words) != 4 {
		return beside.Refuse("a set says calls, presence, from and to, and nothing else: %q", *value)
	}
	*value = dialect.CharterText(words)
	return nil
}

// Write sets one setting: the rules are written anew, compiled, put in place in one step, and read by the server.
func (s *Server) Write(ctx context.Context, path, value string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.fits(path, &value); err != nil {
		return err
	}
	v, _, err := s.read()
	if err != nil {
		return err
	}
	if v[path] = value; value == "" {
		delete(v, path)
	}
	if err := beside.ReplaceAfter(s.Rules, s.text(v), func(file string) error {
		if s.Check == nil { // a file that does not compile would let everything through
			return nil
		}
		if err := s.Check(ctx, file); err != nil {
			return fmt.Errorf("the rules do not compile, and nothing was changed: %w", err)
		}
		return nil
	}); err != nil {
		return err
	}
	return s.Reload(ctx)
}

// Client is somebody who is signed in at a server.
type Client struct {
	*xmpp.Session
	in chan Stanza
}

// Stanza is what came to a client.
type Stanza struct {
	Kind, Type, ID, Body, Says string
	From, Condition            string // who sent it; of an error, which
}

// SignIn signs an account in (RFC 6120 §6: SASL, over TLS).
func SignIn(ctx context.Context, a Account, ca *x509.CertPool) (*Client, error) {
	j, err := jid.Parse(a.Address + "/trial-" + rand.Text()[:6])
	if err != nil {
		return nil, err
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", a.Server)
	if err != nil {
		return nil, err
	}
	s, err := xmpp.NewClientSession(ctx, j, conn,
		xmpp.StartTLS(&tls.Config{ServerName: j.Domainpart(), RootCAs: ca, MinVersion: tls.VersionTLS12}),
		xmpp.SASL("", a.Password, sasl.ScramSha256, sasl.ScramSha1, sasl.Plain),
		xmpp.BindResource(),
	)
	if err != nil {
		_ = conn.Close()
		return nil, fmt.Errorf("%s cannot sign in at %s: %w", a.Address, a.Server, err)
	}
	c := &Client{s, make(chan Stanza, 100)}
	go func() {
		defer close(c.in)
		_ = s.Serve(xmpp.HandlerFunc(func(t xmlstream.TokenReadEncoder, start *xml.StartElement) error {
			x := Stanza{Kind: start.Name.Local}
			for _, a := range start.Attr {
				switch a.Name.Local {
				case "type":
					x.Type = a.Value
				case "id":
					x.ID = a.Value
				case "from":
					x.From = a.Value
				}
			}
			d := xml.NewTokenDecoder(xmlstream.MultiReader(xmlstream.Token(*start), t))
			var in struct {
				Body  string `xml:"body"`
				Error struct {
					Text string                       `xml:"text"`
					Any  []struct{ XMLName xml.Name } `xml:",any"`
				} `xml:"error"`
			}
			if err := d.Decode(&in); err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			x.Body, x.Says = in.Body, in.Error.Text
			for _, e := range in.Error.Any {
				if e.XMLName.Local != "text" && x.Condition == "" {
					x.Condition = e.XMLName.Local
				}
			}
			select {
			case c.in <- x:
			default:
			}
			return nil
		}))
	}()
	if err := s.Send(ctx, stanza.Presence{}.Wrap(nil)); err != nil {
		c.Leave()
		return nil, err
	}
	there, cancel := context.WithTimeout(ctx, patience) // it is there once its own presence comes back (RFC 6121 §4.2.2)
	defer cancel()
	if _, ok := c.Await(there, func(x Stanza) bool { return x.Kind == "presence" }); !ok {
		c.Leave()
		return nil, fmt.Errorf("%s signed in at %s and is not present there", a.Address, a.Server)
	}
	return c, nil
}

// Leave signs a client out.
func (c *Client) Leave() {
	_ = c.Close()
	_ = c.Conn().Close()
}

// Await waits for a stanza; ok is false where none comes before the context is over.
func (c *Client) Await(ctx context.Context, is func(Stanza) bool) (x Stanza, ok bool) {
	for {
		select {
		case x, ok = <-c.in:
			if !ok || is(x) {
				return x, ok
			}
		case <-ctx.Done():
			return Stanza{}, false
		}
	}
}

// Enter enters a room under a name (XEP-0045 §7.2) and returns why not; nothing where they are in.
func (c *Client) Enter(ctx context.Context, room, name string) (why string, err error) {
	j, err := jid.Parse(room + "/" + name)
	if err != nil {
		return "", err
	}
	id := rand.Text()
	if err := c.Session.Send(ctx, stanza.Presence{ID: id, To: j}.Wrap(element(nsRoom, "x", nil))); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	x, ok := c.Await(ctx, func(x Stanza) bool {
		return x.Kind == "presence" && (x.ID == id || x.From == j.String()) && x.Type != "unavailable"
	})
	switch {
	case !ok:
		return "", errors.New("the room says nothing")
	case x.Type == "error":
		return x.Condition, nil
	}
	return "", nil
}

// Appear tells a client elsewhere that one is there (RFC 6121 §4.6), and says whether it heard it. Silence is a no only where a
// message that was sent afterwards arrived.
func Appear(ctx context.Context, from, to *Client) (bool, error) {
	target := to.LocalAddr()
	if err := from.Session.Send(ctx, stanza.Presence{To: target}.Wrap(nil)); err != nil {
		return false, err
	}
	id := rand.Text()
	if err := from.Session.Send(ctx, stanza.Message{ID: id, To: target,
		Type: stanza.ChatMessage}.Wrap(xmlstream.Wrap(xmlstream.Token(xml.CharData("a trial "+id)),
		xml.StartElement{Name: xml.Name{Local: "body"}}))); err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	seen := false
	if _, ok := to.Await(ctx, func(x Stanza) bool {
		seen = seen || x.Kind == "presence" && strings.HasPrefix(x.From, from.LocalAddr().Bare().String())
		return strings.Contains(x.Body, id)
	}); !ok {
		return false, errors.New("nothing arrived, so that nothing can be said")
	}
	return seen, nil
}

// patience is how long something sent is waited for at either end.
const patience = 5 * time.Second

// Send sends a message, or the offer of a call, from one client to another, and watches both ends: it arrived, it was
// refused with a reason, or neither (an error).
func Send(ctx context.Context, from, to *Client, call bool) (arrived bool, says string, err error) {
	id := rand.Text()
	var payload xml.TokenReader
	if call {
		payload = xmlstream.Wrap(nil, xml.StartElement{Name: xml.Name{Space: "urn:xmpp:jingle:1", Local: "jingle"},
			Attr: []xml.Attr{{Name: xml.Name{Local: "action"}, Value: "session-initiate"}, {Name: xml.Name{Local: "sid"}, Value: id}}})
	} else {
		payload = xmlstream.Wrap(xmlstream.Token(xml.CharData("a trial "+id)), xml.StartElement{Name: xml.Name{Local: "body"}})
	}
	target := to.LocalAddr()
	var send xml.TokenReader = stanza.Message{ID: id, To: target.Bare(), Type: stanza.ChatMessage}.Wrap(payload)
	if call {
		send = stanza.IQ{ID: id, To: target, Type: stanza.SetIQ}.Wrap(payload)
	}
	if err := from.Session.Send(ctx, send); err != nil {
		return false, "", err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	there, back := make(chan bool, 1), make(chan Stanza, 1)
	go func() {
		_, ok := to.Await(ctx, func(x Stanza) bool { return x.ID == id || strings.Contains(x.Body, id) })
		there <- ok
	}()
	go func() {
		if x, ok := from.Await(ctx, func(x Stanza) bool { return x.ID == id && x.Type == "error" }); ok {
			back <- x
		}
	}()
	select {
	case ok := <-there:
		if ok {
			return true, "it arrived", nil
		}
	case x := <-back:
		if x.Says == "" {
			x.Says = "it came back as an error"
		}
		return false, x.Says, nil
	}
	return false, "", errors.New("nothing arrived, and nothing came back")
}

// Try sends from the trial account of the domain that an attempt comes from to ours.
func (s *Server) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	_, domain, _ := strings.Cut(a.From, "@")
	i := slices.IndexFunc(s.Out, func(x Account) bool { return strings.HasSuffix(x.Address, "@"+domain) })
	if !slices.Contains(dialect.Tries, a.Action) || a.As != native.Stranger || i < 0 {
		return out, nil
	}
	out.Known = true
	from, err := SignIn(ctx, s.Out[i], s.CA)
	if err != nil {
		return out, err
	}
	defer from.Leave()
	to, err := SignIn(ctx, s.Ours, s.CA)
	if err != nil {
		return out, err
	}
	defer to.Leave()
	out.Admitted, out.Says, err = Send(ctx, from, to, a.Action == "chat.call")
	return out, err
}
