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
	"wexillum.example/internal/core/addr"
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
}

// Server is one such server.
type Server struct {
	Config
	mu sync.Mutex
}

var dialect = native.Dialect{
	Name: "ldapdir", Title: "A directory over LDAP", Services: []string{"directory"}, Tries: []string{"directory.sign_in", "directory.look_up"},
	Dials: []native.Dial{
		{Path: "guests", Title: "Guests sign in", Rule: "directory.guests", Words: []string{"refused", "let in"}},
		{Path: "people seen", Title: "Whom of ours guests find", Rule: "directory.people_seen", Words: []string{"nobody", "", "everybody"}},
		{Path: "profile seen", Title: "What of them guests see", Rule: "directory.profile_seen", Words: []string{"name", "name and how to reach them", "everything"}},
	},
	Holdings: []native.Holding{{Kind: "guest", Name: "guests", Title: "Guests", Says: "Other servers let in whoever lies under ou=guests; who is suspended lies under ou=suspended.", Fields: []native.Field{
		{Name: "mail", Of: "address"}, {Name: "state", Of: "standing", Words: map[string]string{"in": "guest", "out": "suspended"}}, {Name: "sponsor", Of: "sponsor", Free: true},
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

var shown = map[string]string{"name": "entry,objectClass,cn", "name and how to reach them": "entry,objectClass,cn,mail,telephoneNumber", "everything": ""}

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
		out = append(out, fmt.Sprintf(`to dn.base=%q attrs=%s by * none`, "cn=nobody,ou=people,"+s.Base, cmp.Or(shown[v["profile seen"]], "entry,objectClass,cn,mail,telephoneNumber,title")))
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
	r, err := c.Search(ldap.NewSearchRequest(s.Database, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 10, false, "(objectClass=*)", []string{"olcAccess"}, nil))
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
	for _, ou := range []string{"people", "guests", "suspended"} {
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

// escapeDN writes a text so that it is one value of a name (RFC 4514 §2.4).
func escapeDN(s string) string {
	var b strings.Builder
	for i := range len(s) {
		c := s[i]
		edge := i == 0 && (c == ' ' || c == '#') || i == len(s)-1 && c == ' '
		switch {
		case edge, strings.IndexByte(`"+,;<>\=`, c) >= 0:
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < 0x20 || c >= 0x7f:
			fmt.Fprintf(&b, `\%02x`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

var units = map[string]string{"guest": "guests", "suspended": "suspended"}

func (s *Server) dn(who, unit string) string {
	return "mail=" + escapeDN(who) + ",ou=" + unit + "," + s.Base
}

// all lists guests by their addresses; only one where who names one.
func (s *Server) all(who string) (out []native.Kept, err error) {
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	filter := "(objectClass=inetOrgPerson)"
	if who != "" {
		filter = "(&" + filter + "(mail=" + ldap.EscapeFilter(who) + "))"
	}
	for state, unit := range units {
		r, err := c.Search(ldap.NewSearchRequest("ou="+unit+","+s.Base, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 60, false, filter, []string{"mail", "manager"}, nil))
		if err != nil {
			return nil, err
		}
		for _, e := range r.Entries {
			sponsor := ""
			if d, err := ldap.ParseDN(e.GetAttributeValue("manager")); err == nil && len(d.RDNs) > 0 {
				sponsor = d.RDNs[0].Attributes[0].Value
			}
			id := e.GetAttributeValue("mail")
			out = append(out, native.Kept{ID: id, Fields: map[string]string{"mail": id, "state": state, "sponsor": sponsor}})
		}
	}
	slices.SortFunc(out, func(a, b native.Kept) int { return strings.Compare(a.ID, b.ID) })
	return out, nil
}

// List hands over all guests.
func (s *Server) List(_ context.Context, kind string, fn func(native.Kept) error) error {
	if kind != "guests" {
		return beside.Refuse("there are no %s", kind)
	}
	s.mu.Lock()
	list, err := s.all("")
	s.mu.Unlock()
	if err != nil {
		return err
	}
	for _, k := range list {
		if err := fn(k); err != nil {
			return err
		}
	}
	return nil
}

// One returns a guest; nil where they are not there.
func (s *Server) One(_ context.Context, kind, id string) (*native.Kept, error) {
	if kind != "guests" {
		return nil, beside.Refuse("there are no %s", kind)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	list, err := s.all(id)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Put makes a guest, or changes one. A new one has a password that nobody knows.
func (s *Server) Put(_ context.Context, kind, _ string, f map[string]string) (string, error) {
	if kind != "guests" {
		return "", beside.Refuse("there are no %s", kind)
	}
	a, err := addr.Parse(f["mail"])
	unit := units[f["state"]]
	if err != nil || unit == "" {
		return "", beside.Refuse("no guest is called %q and is %q", f["mail"], f["state"])
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return "", err
	}
	defer c.Close()
	was, err := s.all(a.String())
	if err != nil {
		return "", err
	}
	if len(was) == 0 {
		r := ldap.NewAddRequest(s.dn(a.String(), unit), nil)
		r.Attribute("objectClass", []string{"inetOrgPerson"})
		r.Attribute("mail", []string{a.String()})
		r.Attribute("cn", []string{a.String()})
		r.Attribute("sn", []string{a.String()})
		r.Attribute("userPassword", []string{rand.Text()})
		if f["sponsor"] != "" {
			r.Attribute("manager", []string{"mail=" + escapeDN(f["sponsor"]) + ",ou=people," + s.Base})
		}
		return a.String(), c.Add(r)
	}
	if old := units[was[0].Fields["state"]]; old != unit {
		m := ldap.NewModifyDNRequest(s.dn(a.String(), old), "mail="+escapeDN(a.String()), true, "ou="+unit+","+s.Base)
		if err := c.ModifyDN(m); err != nil {
			return "", err
		}
	}
	m := ldap.NewModifyRequest(s.dn(a.String(), unit), nil)
	m.Replace("manager", nil)
	if f["sponsor"] != "" {
		m.Replace("manager", []string{"mail=" + escapeDN(f["sponsor"]) + ",ou=people," + s.Base})
	}
	return a.String(), c.Modify(m)
}

// Drop takes a guest away.
func (s *Server) Drop(_ context.Context, kind, id string) error {
	if kind != "guests" {
		return beside.Refuse("there are no %s", kind)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return err
	}
	defer c.Close()
	for _, unit := range units {
		if err := c.Del(ldap.NewDelRequest(s.dn(id, unit), nil)); err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) && !ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidDNSyntax) {
			return err
		}
	}
	return nil
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

// Person makes an entry of one of ours.
func (s *Server) Person(mail, name, phone string) error {
	c, err := s.dial(s.Admin, s.Password)
	if err != nil {
		return err
	}
	defer c.Close()
	r := ldap.NewAddRequest("mail="+escapeDN(mail)+",ou=people,"+s.Base, nil)
	for k, v := range map[string]string{"objectClass": "inetOrgPerson", "mail": mail, "cn": name, "sn": name, "telephoneNumber": phone, "title": "keeper"} {
		r.Attribute(k, []string{v})
	}
	if err := c.Add(r); err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultEntryAlreadyExists) {
		return err
	}
	return nil
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
	r, err := c.Search(ldap.NewSearchRequest("ou=people,"+s.Base, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 10, false, "(objectClass=inetOrgPerson)", []string{"cn", "mail", "telephoneNumber", "title"}, nil))
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
