package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"golang.org/x/net/publicsuffix"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	verdicts "wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/phrase"
	"wexillum.example/internal/store"
)

// MaxInvited is how many addresses one invitation may hold.
const MaxInvited = 1000

// Languages are those that mail and the pages of guests are written in.
var Languages = phrase.Languages

// Invitation is who is invited into what, and how.
type Invitation struct {
	List     string // addresses as verdicts.Split reads them, names before them in angle brackets
	Into     string // directory:ours, a space, an item, group:ID
	Role     string // on a space or an item
	Purpose  string
	Text     string // own words of welcome
	Landing  string // where they go once they have accepted
	Sponsor  string // a person; absent: whoever invites
	As       string // the person of ours who invites; members invite as themselves
	Until    string // their end; absent: the term of the rules
	Language string
	Location string
	Licence  string
}

// Invited is what became of an invitation, or would become of it.
type Invited struct {
	Lines    []InvitedLine
	Counts   map[string]int
	As       string
	Sponsor  string
	Into     world.Resource
	Group    string
	Until    moment.Moment
	Opens    []Opens
	Narrower []Narrower
	Missing  []string      // what a later step would need
	Mail     *mail.Message // with preview, as the first who would be invited would read it
}

// InvitedLine is what becomes of one address.
type InvitedLine struct {
	verdicts.Line
	Name string
	Done string // invited, given; empty where nothing was done
}

// Opens is what an invitation opens to people who are alike: one of them was asked about.
type Opens struct {
	Of    string // a partner, or a kind
	Count int
	Who   addr.Address
	Kind  engine.Kind
	Lines []engine.WouldLine
	Steps []engine.DueStep
	State *engine.Snapshot // as it would be
}

// Narrower is another way that opens less.
type Narrower struct {
	Into, Role, Until string
	Text              string
	Opened            int
}

// invitation is what is kept of an invitation for its mail and its page.
type invitation struct {
	Into     string `json:"into"`
	Role     string `json:"role,omitempty"`
	By       string `json:"by"` // a person
	Text     string `json:"text,omitempty"`
	Landing  string `json:"landing,omitempty"`
	Language string `json:"language"`
	Made     string `json:"made"`
}

// Opened counts what a list of lines opens: actions on resources that need a role, and
// kinds of action that need none. The two are never added together (model §7).
func Opened(lines []engine.WouldLine) (granted, wide int) {
	for i := range lines {
		if c := lines[i].Change(); c != "opened" && c != "otherwise" {
			continue
		}
		if lines[i].Action.Get().Spread == catalogue.Granted {
			granted += max(1, lines[i].Count)
		} else {
			wide++
		}
	}
	return
}

// Host is the name that our messages come from.
func (s *State) Host() string {
	if o := s.Policy().Organisation; o != nil && len(o.Domains) > 0 {
		return o.Domains[0].Domain.String()
	}
	return "wexillum.invalid"
}

func newMessageID(host string) string {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b) + "@" + host
}

// mayMail refuses a member who has sent as much mail today as one may (settings member_mail).
func (s *Service) mayMail(t *store.Tx, st *State) error {
	most := st.Policy().SettingsNow().MemberMail
	if t.Who() == Scheduler || most == catalogue.NoLimit {
		return nil
	}
	a, err := t.Account(t.Who())
	if errors.Is(err, store.ErrNone) || err == nil && !(Who{Role: Role(a.Role)}).Own() {
		return nil
	}
	if err != nil {
		return err
	}
	today := moment.DayOf(s.Now(), st.Zone()).Start(st.Zone())
	n, err := t.MailBy(t.Who(), today)
	if err == nil && n >= int(most) {
		err = fmt.Errorf(
			"%w: members send at most %d messages to outsiders a day (member_mail), and these would be more than you have left today; nothing was sent. Go on tomorrow, or ask a keeper",
			ErrConflict,
			most,
		)
	}
	return err
}

// link finds what a reader of mail makes a link of: an address of the web, or a name whose end
// is a public suffix.
var link = regexp.MustCompile(`(?i)[a-z][a-z0-9+.-]*://\S*|\bwww\.\S+|\bmailto:\S*|(?:[\p{L}\p{N}-]+\.)+\p{L}{2,}(?::[0-9]+)?(?:/\S*)?`)

// ownWords refuses links in what a member writes to outsiders: they would come from our mail
// server, among our words.
func ownWords(who Who, field, text string) error {
	if !who.Own() {
		return nil
	}
	for _, at := range link.FindAllStringIndex(text, -1) {
		found := text[at[0]:at[1]]
		if at[0] > 0 && text[at[0]-1] == '@' && !strings.Contains(found, "/") { // an address of mail
			continue
		}
		if name, _, _ := strings.Cut(strings.ToLower(found), "/"); !strings.Contains(found, "://") && !strings.HasPrefix(name, "www.") &&
			!strings.HasPrefix(name, "mailto:") {
			name, _, _ = strings.Cut(name, ":")
			suffix, listed := publicsuffix.PublicSuffix(name)
			if !listed && suffix != "example" || !strings.Contains(name, ".") {
				continue // two words without a blank between them
			}
		}
		return &Invalid{field, found, "leave links out of what you write to outsiders; what they need to open comes with the message"}
	}
	return nil
}

// postMail writes a message to the outbox within a change.
func (s *Service) postMail(t *store.Tx, st *State, to addr.Address, kind, once string, data any) error {
	doc, err := json.Marshal(data)
	if err != nil {
		return err
	}
	if err := s.mayMail(t, st); err != nil {
		return err
	}
	now := s.Now()
	_, err = t.Post(
		&store.Message{
			MessageID: newMessageID(st.Host()),
			Once:      once,
			Recipient: to.String(),
			Kind:      kind,
			Doc:       doc,
			Made:      now,
			Due:       now,
			Sender:    t.Who(),
		},
	)
	return err
}

// invitee is one entry of a list.
type invitee struct {
	line int
	text string
	name string
}

func invitees(list string) (out []invitee, err error) {
	err = verdicts.Split(strings.NewReader(list), "", func(line int, text string) error {
		if len(out) == MaxInvited {
			return &Invalid{
				"list",
				fmt.Sprintf("%d and more", MaxInvited),
				fmt.Sprintf("at most %d addresses are invited at once", MaxInvited),
			}
		}
		name := ""
		if i := strings.LastIndexByte(text, '<'); i > 0 {
			name = strings.Trim(strings.TrimSpace(text[:i]), `"'`)
		}
		out = append(out, invitee{line, text, name})
		return nil
	})
	if err == nil && len(out) == 0 {
		err = &Invalid{"list", list, "it holds no address"}
	}
	return
}

// target is what an invitation is into, read.
type target struct {
	resource world.Resource // directory, a space or an item
	space    string         // the space, or that of the item
	group    string
	role     catalogue.Role
}

func (s *State) target(into, role string) (x target, err error) {
	into = strings.TrimSpace(into)
	x.resource = world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	if into == "" || into == "directory" || into == "directory:ours" {
		return
	}
	if id, ok := strings.CutPrefix(into, "group:"); ok {
		if !s.Has("group", id) {
			return x, &Invalid{"into", into, "there is no such group"}
		}
		x.group = id
		return
	}
	if x.resource, err = engine.ParseResource(into); err != nil {
		return
	}
	switch {
	case x.resource.Kind == catalogue.Space:
		x.space = x.resource.ID
		if !s.Has("space", x.space) {
			return x, &Invalid{"into", into, "there is no such space"}
		}
	case x.resource.Kind.IsItem():
		if x.space = s.SpaceOf(x.resource.ID); x.space == "" || !s.Has(x.resource.Kind.String(), x.resource.ID) {
			return x, &Invalid{"into", into, "there is no such " + x.resource.Kind.String()}
		}
	default:
		return x, &Invalid{"into", into, "write directory, space:ID, group:ID or an item as folder:ID"}
	}
	if role == "" {
		role = "view"
	}
	var ok bool
	if x.role, ok = catalogue.ParseRole(role); !ok || x.role == catalogue.NoRole {
		err = &Invalid{"role", role, "write view, contribute or manage"}
	}
	return
}

func (x *target) String() string {
	if x.group != "" {
		return "group:" + x.group
	}
	return x.resource.String()
}

// grant returns what an address is given; ok is false where that is nothing but a record.
func (x *target) grant(a addr.Address, from, until moment.Moment, sponsor string) (world.Grant, bool) {
	return world.Grant{
		Address:  a,
		Resource: x.resource,
		Role:     x.role,
		From:     from,
		Until:    until,
		Sponsor:  sponsor,
		Reviewed: moment.Always,
	}, x.space != ""
}

// passes names the action that passes an item on, besides an invitation.
func (x *target) passes() string {
	switch x.resource.Kind {
	case catalogue.Folder, catalogue.File:
		return "files.share"
	case catalogue.Report, catalogue.Dashboard:
		return "reports.share"
	}
	return ""
}

// Invite invites everybody on a list who may be, all in one change, and says of each
// address what became of it. With preview nothing is written or sent, and it is told what
// it would open.
func (s *Service) Invite(ctx context.Context, who Who, x Invitation, preview bool) (*Invited, error) {
	if x.Purpose = strings.TrimSpace(x.Purpose); (x.Purpose == "" && !preview) || len(x.Purpose) > 500 {
		return nil, &Invalid{"purpose", x.Purpose, "say what they are invited for, in 1 to 500 letters"}
	}
	if len(x.Text) > 4000 {
		return nil, &Invalid{"text", x.Text[:40] + "…", "at most 4000 letters"}
	}
	if err := errors.Join(ownWords(who, "text", x.Text), keepersLicence(who, x.Licence)); err != nil {
		return nil, err
	}
	if x.Landing != "" {
		if u, err := url.Parse(x.Landing); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil {
			return nil, &Invalid{"landing", x.Landing, "write an address of the web, as https://suite.ours.example/loan"}
		}
	}
	if err := oneOfWords("language", x.Language, Languages...); err != nil {
		return nil, err
	}
	if err := oneOfWords("licence", x.Licence, world.LicenceNames...); err != nil {
		return nil, err
	}
	list, err := invitees(x.List)
	if err != nil {
		return nil, err
	}
	for i := range list { // the mail calls them by it
		if err := ownWords(who, "list", list[i].name); err != nil {
			return nil, err
		}
	}
	var out *Invited
	err = s.changing(ctx, who.Name, x.Purpose, preview, func(now *State, t *store.Tx) error {
		if preview { // as the draft that it is asked in would have it
			if now, err = s.StateIn(ctx); err != nil {
				return err
			}
		}
		out, err = s.invite(now, t, who, &x, list, preview)
		if err == nil && preview {
			return errPreview
		}
		return err
	})
	return out, err
}

func oneOfWords(field, value string, words ...string) error {
	if value == "" {
		return nil
	}
	for _, w := range words {
		if w == value {
			return nil
		}
	}
	return &Invalid{field, value, "write " + strings.Join(words, ", ")}
}

func (s *Service) invite(now *State, t *store.Tx, who Who, x *Invitation, list []invitee, preview bool) (*Invited, error) {
	at := s.Now()
	to, err := now.target(x.Into, x.Role)
	if err != nil {
		return nil, err
	}
	out := &Invited{
		Lines:   []InvitedLine{},
		Counts:  map[string]int{},
		As:      x.As,
		Sponsor: x.Sponsor,
		Into:    to.resource,
		Group:   to.group,
		Until:   moment.Never,
	}
	if x.Until != "" {
		if out.Until, err = moment.ParseEnd(x.Until, at, now.Zone()); err != nil {
			return nil, &Invalid{"until", x.Until, err.Error()}
		}
		if out.Until <= at {
			return nil, &Invalid{"until", x.Until, "it lies before now"}
		}
	}
	if who.Own() {
		if x.As != "" && x.As != who.Person || x.Sponsor != "" && x.Sponsor != who.Person {
			return nil, &Invalid{"sponsor", x.As + x.Sponsor, "members invite as themselves and answer for whom they invite"}
		}
		if to.group != "" {
			return nil, &Invalid{"into", x.Into, "administrators and keepers put people into groups"}
		}
		out.As = who.Person
	}
	checkInto := to.resource
	if to.space != "" && to.passes() == "" {
		checkInto = world.Resource{Kind: catalogue.Space, ID: to.space}
	} else if to.passes() != "" {
		checkInto = world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	}
	if out.As == "" && who.Person != "" && now.Has("person", who.Person) {
		out.As = who.Person
	}
	if out.As == "" {
		into := checkInto
		if to.space != "" {
			into = world.Resource{Kind: catalogue.Space, ID: to.space}
		}
		if out.As = now.Inviter(into); out.As == "" {
			return nil, &Invalid{"as", "", "say which person of ours invites: nobody owns the space, and no person is an administrator"}
		}
	}
	if !now.Has("person", out.As) {
		return nil, &Invalid{"as", out.As, "there is no such person"}
	}
	if out.Sponsor == "" {
		out.Sponsor = out.As
	}
	if !now.Has("person", out.Sponsor) {
		return nil, &Invalid{"sponsor", out.Sponsor, "there is no such person"}
	}
	if now.LeftAt(out.Sponsor) != 0 {
		return nil, &Invalid{"sponsor", out.Sponsor, "they have left us; name somebody who is here"}
	}
	checker, err := verdicts.New(now.Snapshot, verdicts.Options{Keep: true, Into: checkInto, As: out.As, At: at})
	if err != nil {
		return nil, err
	}
	licence := world.LicenceNone
	for i, n := range world.LicenceNames {
		if n == x.Licence {
			licence = world.Licence(i)
		}
	}
	classes := map[string]int{} // by partner or kind: place in out.Opens
	for _, e := range list {
		l := InvitedLine{Line: checker.Check(e.line, e.text), Name: e.name}
		if err := s.judgeInvited(now, t, &l, &to, out.As, at); err != nil {
			return nil, err
		}
		if l.Verdict == verdicts.Yes {
			a, err := addr.Parse(l.Address)
			if err != nil {
				return nil, err
			}
			g, given, err := s.writeInvited(now, t, who, x, &to, out, a, &l, licence, at)
			if err != nil {
				return nil, err
			}
			c := l.Partner
			if c == "" {
				c = l.Kind
			}
			k, ok := classes[c]
			if !ok && preview {
				k = len(out.Opens)
				classes[c] = k
				o := Opens{Of: c, Who: a}
				sup := engine.Suppose{Address: a, Record: true}
				e := now.Aside()
				e.PutGuest(g)
				if given != nil {
					sup.Grants = []world.Grant{*given}
					e.AddGrant(a, *given)
				}
				if to.group != "" {
					sup.Groups = []string{to.group}
					e.JoinGroup(a, to.group, at)
				}
				if o.Lines, o.Kind, err = now.Would(sup, at); err != nil {
					return nil, err
				}
				o.State = e.Done()
				o.Steps, _ = o.State.Sequences().Of(a)
				if g.State == world.StateInvited && out.Mail == nil { // as the first of them would read it
					if out.Mail, err = s.invitationAhead(&State{Snapshot: o.State, Head: now.Head}, g, given, out.As, x.Text); err != nil {
						return nil, err
					}
				}
				if g.State == world.StateInvited { // and what comes once it is accepted
					then := *g
					then.State, then.Accepted, then.LastSeen = world.StateActive, at, at
					e := o.State.Aside()
					e.PutGuest(&then)
					o.State = e.Done()
					more, _ := o.State.Sequences().Of(a)
					o.Steps = append(o.Steps[:len(o.Steps):len(o.Steps)], more...)
					engine.SortDue(o.Steps)
				}
				out.Opens = append(out.Opens, o)
			}
			if preview {
				out.Opens[k].Count++
			}
		}
		key := string(l.Verdict)
		if l.Done != "" {
			key = l.Done
		}
		out.Counts[key]++
		out.Lines = append(out.Lines, l)
	}
	if preview {
		out.Missing = s.missing(now, x, &to, out, licence)
		if err := s.narrower(now, &to, out, at); err != nil {
			return nil, err
		}
	}
	return out, nil
}
