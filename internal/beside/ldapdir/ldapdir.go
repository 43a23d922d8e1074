// Package ldapdir stands beside a directory server (LDAP, RFC 4511): OpenLDAP's slapd, whose rules of access are entries of
// its own configuration and count at the next request. Guests are written into it, so that other servers sign them in
// from there, or not; what a guest looks up there is what the rules of access let them.
package ldapdir

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/go-ldap/ldap/v3"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/native"
)

// Config says where the directory is and who writes it.
type Config struct {
	Server   string // as ldap://127.0.0.1:389
	Base     string // as dc=ours,dc=example; below it lie ou=people, ou=guests and ou=suspended
	Admin    string // who writes entries
	Password string
	Database string // the entry of the database in the server's configuration, as olcDatabase={1}mdb,cn=config
	Keeper   string // who writes that
	Secret   string
	// Out ends what a guest has open at servers that sign them in from here, once they are out; nil for nothing.
	Out func(ctx context.Context, guest string) error
}

// Server is one such server.
type Server struct {
	Config
	mu sync.Mutex
}

var dialect = native.Dialect{
	Name: "ldapdir", Title: "A directory over LDAP", Services: []string{"directory"},
	Tries: []string{"directory.sign_in", "directory.look_up"},
	Dials: []native.Dial{
		{Path: "guests", Title: "Guests sign in", Rule: "directory.guests", Words: []string{"refused", "let in"}},
		{Path: "people seen", Title: "Whom of ours guests find", Rule: "directory.people_seen", Words: []string{"nobody", "", "everybody"}},
		{Path: "profile seen", Title: "What of them guests see", Rule: "directory.profile_seen",
			Words: []string{"name", "name and how to reach them", "everything"}},
	},
	Holdings: []native.Holding{{Kind: "group", Name: "groups", Title: "Groups", Source: true,
		Fields: []native.Field{{Name: "group", Of: "id"}, {Name: "name", Of: "name"}}}, {
		Kind: "person", Name: "people", Title: "People of ours", Source: true,
		Fields: []native.Field{{Name: "mail", Of: "address"}, {Name: "name", Of: "name"}, {Name: "groups", Of: "groups"}},
	}, {Kind: "guest", Name: "guests", Title: "Guests",
		Says: "Other servers let in whoever lies under ou=guests; who is suspended lies under ou=suspended.", Fields: []native.Field{
			{Name: "mail", Of: "address"}, {Name: "state", Of: "standing", Words: map[string]string{"in": "guest", "out": "suspended"}},
			{Name: "sponsor", Of: "sponsor", Free: true}, {Name: "groups", Of: "groups"},
		}}},
}

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect { return &dialect }

func (s *Server) dial(who, password string) (*ldap.Conn, error) {
	c, err := ldap.DialURL(s.Server)
	if err != nil {
		return nil, err
	}
	if err := c.Bind(who, password); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

var shown = map[string]string{"name": "entry,objectClass,cn", "name and how to reach them": "entry,objectClass,cn,mail,telephoneNumber",
	"everything": ""}

// access writes values as rules of access (slapd.access(5)).
func (s *Server) access(v map[string]string) []string {
	guests := fmt.Sprintf("dn.children=%q", "ou=guests,"+s.Base)
	signs := "by anonymous auth"
	if v["guests"] != "let in" {
		signs = "by * none"
	}
	out := []string{
		fmt.Sprintf(`to dn.subtree=%q attrs=userPassword %s by * none`, "ou=guests,"+s.Base, strings.TrimSuffix(signs, " by * none")),
		fmt.Sprintf(`to dn.subtree=%q by * none`, "ou=suspended,"+s.Base),
		fmt.Sprintf(`to dn.subtree=%q by self read by * none`, "ou=guests,"+s.Base),
		`to attrs=userPassword by anonymous auth by * none`,
	}
	if v["people seen"] == "everybody" {
		attrs := ""
		if a := shown[v["profile seen"]]; a != "" {
			attrs = " attrs=" + a
		}
		out = append(out, fmt.Sprintf(`to dn.subtree=%q%s by %s read by * none`, "ou=people,"+s.Base, attrs, guests))
	} else {
		// What of somebody would be seen is kept where nobody is: of an entry that is not there.
		out = append(out, fmt.Sprintf(`to dn.base=%q attrs=%s by * none`, "cn=nobody,ou=people,"+s.Base,
			cmp.Or(shown[v["profile seen"]], "entry,objectClass,cn,mail,telephoneNumber,title")))
	}
	return append(out, fmt.Sprintf(`to dn.subtree=%q by * none`, s.Base))
}

var numbered = regexp.MustCompile(`^\{\d+\}`)

// rules reads the rules of access that count.
func (s *Server) rules() (out []string, err error) {
	c, err := s.dial(s.Keeper, s.Secret)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	r, err := c.Search(ldap.NewSearchRequest(s.Database, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 10, false, "(objectClass=*)",
		[]string{"olcAccess"}, nil))
	if err != nil || len(r.Entries) != 1 {
		return nil, errors.Join(err, fmt.Errorf("its configuration cannot be read"))
	}
	for _, a := range r.Entries[0].GetAttributeValues("olcAccess") {
		out = append(out, numbered.ReplaceAllString(a, ""))
	}
	return out, nil
}

// values finds the values whose rules those are; ok is false where somebody wrote others.
func (s *Server) values(rules []string) (map[string]string, bool) {
	for _, g := range dialect.Dials[0].Words {
		for _, p := range []string{"nobody", "everybody"} {
			for _, f := range dialect.Dials[2].Words {
				v := map[string]string{"guests": g, "people seen": p, "profile seen": f}
				if slices.Equal(s.access(v), rules) {
					return v, true
				}
			}
		}
	}
	return map[string]string{"guests": byHand, "people seen": byHand, "profile seen": byHand}, false
}

const byHand = "the rules of access were changed by hand"

// Begin writes the entries that everything lies below, and rules of access that let nobody in.
func (s *Server) Begin() error {
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return err
	}
	defer c.Close()
	top, _, _ := strings.Cut(strings.TrimPrefix(s.Base, "dc="), ",")
	add := func(dn string, attrs map[string][]string) error {
		r := ldap.NewAddRequest(dn, nil)
		for k, v := range attrs {
			r.Attribute(k, v)
		}
		if err := c.Add(r); err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultEntryAlreadyExists) {
			return fmt.Errorf("%s: %w", dn, err)
		}
		return nil
	}
	if err := add(s.Base, map[string][]string{"objectClass": {"dcObject", "organization"}, "dc": {top}, "o": {top}}); err != nil {
		return err
	}
	for _, ou := range []string{"people", "groups", "guests", "suspended"} {
		if err := add("ou="+ou+","+s.Base, map[string][]string{"objectClass": {"organizationalUnit"}, "ou": {ou}}); err != nil {
			return err
		}
	}
	return s.write(map[string]string{"guests": "refused", "people seen": "nobody", "profile seen": "name"})
}

func (s *Server) write(v map[string]string) error {
	c, err := s.dial(s.Keeper, s.Secret)
	if err != nil {
		return err
	}
	defer c.Close()
	m := ldap.NewModifyRequest(s.Database, nil)
	m.Replace("olcAccess", s.access(v))
	return c.Modify(m)
}

// Read returns the settings as the rules of access have them.
func (s *Server) Read(context.Context) (map[string]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, err := s.rules()
	if err != nil {
		return nil, err
	}
	v, _ := s.values(r)
	return v, nil
}

// Write sets one setting, which counts at the next request.
func (s *Server) Write(_ context.Context, path, value string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(dialect.Dials, func(d native.Dial) bool { return d.Path == path })
	if i < 0 || value == "" || !slices.Contains(dialect.Dials[i].Words, value) {
		return beside.Refuse("no %q is %q here", path, value)
	}
	r, err := s.rules()
	if err != nil {
		return err
	}
	v, ok := s.values(r)
	if !ok { // what was written by hand is written anew, shut but for this
		v = map[string]string{"guests": "refused", "people seen": "nobody", "profile seen": "name"}
	}
	v[path] = value
	return s.write(v)
}

// isAny reports whether an error is one of those results (RFC 4511 §A.1).
func isAny(err error, codes ...uint16) bool {
	return slices.ContainsFunc(codes, func(c uint16) bool { return ldap.IsErrorWithCode(err, c) })
}

// list reads records of a kind; only one where it is named.
func (s *Server) list(kind, one string) (map[string]native.Kept, error) {
	k, err := s.kind(kind)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return k.all(c, one)
}

// List hands over all records of a kind.
func (s *Server) List(_ context.Context, kind string, fn func(native.Kept) error) error {
	all, err := s.list(kind, "")
	if err != nil {
		return err
	}
	return beside.Each(all, fn)
}

// One returns a record; nil where it is not there.
func (s *Server) One(_ context.Context, kind, id string) (*native.Kept, error) {
	all, err := s.list(kind, id)
	if k, ok := all[id]; ok && err == nil {
		return &k, nil
	}
	return nil, err
}

// Put makes a record, or changes one.
func (s *Server) Put(ctx context.Context, kind, _ string, f map[string]string) (string, error) {
	k, err := s.kind(kind)
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return "", err
	}
	defer c.Close()
	id, err := k.put(c, f)
	if err == nil && kind == "guests" && f["state"] == "suspended" {
		err = s.out(ctx, id)
	}
	return id, err
}

func (s *Server) out(ctx context.Context, guest string) error {
	if s.Out == nil {
		return nil
	}
	return s.Out(ctx, guest)
}

// Drop takes a record away.
func (s *Server) Drop(ctx context.Context, kind, id string) error {
	k, err := s.kind(kind)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := k.drop(c, id); err != nil || kind != "guests" {
		return err
	}
	return s.out(ctx, id)
}

// SetPassword gives a guest a password.
func (s *Server) SetPassword(who, password string) error {
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return err
	}
	defer c.Close()
	m := ldap.NewModifyRequest(s.dn(who, "guests"), nil)
	m.Replace("userPassword", []string{password})
	return c.Modify(m)
}

// Reach adds how somebody of ours is reached, which the directory knows and nobody else does.
func (s *Server) Reach(mail, phone, title string) error {
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return err
	}
	defer c.Close()
	m := ldap.NewModifyRequest(s.dn(mail, "people"), nil)
	m.Replace("telephoneNumber", []string{phone})
	m.Replace("title", []string{title})
	return c.Modify(m)
}

// Look signs a guest in and says what they find of our people: by address or name, with the fields that they see.
func (s *Server) Look(who, password string) (found []string, signedIn bool, err error) {
	c, err := s.dial(s.dn(who, "guests"), password)
	if isAny(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultInsufficientAccessRights, ldap.LDAPResultNoSuchObject) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	defer c.Close()
	r, err := c.Search(ldap.NewSearchRequest("ou=people,"+s.Base, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 10, false,
		"(objectClass=inetOrgPerson)", []string{"cn", "mail", "telephoneNumber", "title"}, nil))
	if isAny(err, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInsufficientAccessRights) {
		return nil, true, nil
	}
	if err != nil {
		return nil, true, err
	}
	for _, e := range r.Entries {
		var fields []string
		for _, a := range e.Attributes {
			fields = append(fields, a.Name)
		}
		slices.Sort(fields)
		found = append(found, e.GetAttributeValue("cn")+" ("+strings.Join(fields, " ")+")")
	}
	slices.Sort(found)
	return found, true, nil
}

// Try signs a guest in who is made for it, and has them look somebody of ours up.
func (s *Server) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	if !slices.Contains(dialect.Tries, a.Action) || a.As != native.AGuest {
		return out, nil
	}
	out.Known = true
	if _, err = s.Put(ctx, "guests", "", map[string]string{"mail": a.From, "state": "guest"}); err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, s.Drop(context.WithoutCancel(ctx), "guests", a.From)) }()
	password := rand.Text()
	if err = s.SetPassword(a.From, password); err != nil {
		return out, err
	}
	found, in, err := s.Look(a.From, password)
	switch {
	case err != nil:
	case !in:
		out.Says = "it does not sign them in"
	case a.Action == "directory.sign_in":
		out.Admitted, out.Says = true, "signed in"
	case len(found) == 0:
		out.Says = "they find nobody"
	default:
		out.Admitted, out.Says = true, fmt.Sprintf("they find %d", len(found))
	}
	return out, err
}
