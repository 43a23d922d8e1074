package ldapdir

import (
	"cmp"
	"crypto/rand"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

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

func (s *Server) groupDN(id string) string { return "cn=" + escapeDN(id) + ",ou=groups," + s.Base }

// nobody is the member of groups that have none, since a group of a directory has one at least (RFC 4519 §3.5).
func (s *Server) nobody() string { return "cn=nobody,ou=people," + s.Base }

// kinds of records, with how each is read and written.
type keeps struct {
	all  func(c *ldap.Conn, one string) (map[string]native.Kept, error) // only one where it is named
	put  func(c *ldap.Conn, f map[string]string) (id string, err error)
	drop func(c *ldap.Conn, id string) error
}

func (s *Server) kind(kind string) (keeps, error) {
	switch kind {
	case "guests":
		return keeps{s.guests, s.putGuest, s.dropGuest}, nil
	case "people":
		return keeps{s.people, s.putPerson, func(c *ldap.Conn, id string) error { return s.dropMember(c, s.dn(id, "people")) }}, nil
	case "groups":
		return keeps{s.groups, s.putGroup, func(c *ldap.Conn, id string) error { return gone(c.Del(ldap.NewDelRequest(s.groupDN(id), nil))) }},
			nil
	}
	return keeps{}, beside.Refuse("there are no %s", kind)
}

// gone takes it for done where an entry is not there, or its name is none.
func gone(err error) error {
	if isAny(err, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInvalidDNSyntax) {
		return nil
	}
	return err
}

func search(c *ldap.Conn, base, filter string, attrs ...string) ([]*ldap.Entry, error) {
	r, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 60, false, filter, attrs, nil))
	if err != nil {
		return nil, err
	}
	return r.Entries, nil
}

// rdn is the value of the first part of a name, as an address of mail=ADDRESS,ou=people,...
func rdn(dn string) string {
	if d, err := ldap.ParseDN(dn); err == nil && len(d.RDNs) > 0 && len(d.RDNs[0].Attributes) > 0 {
		return d.RDNs[0].Attributes[0].Value
	}
	return ""
}

func named(filter, attr, one string) string {
	if one == "" {
		return filter
	}
	return "(&" + filter + "(" + attr + "=" + ldap.EscapeFilter(one) + "))"
}

// members finds in which groups people are, by their addresses.
func (s *Server) members(c *ldap.Conn) (map[string][]string, error) {
	list, err := search(c, "ou=groups,"+s.Base, "(objectClass=groupOfNames)", "cn", "member")
	out := map[string][]string{}
	for _, e := range list {
		for _, m := range e.GetAttributeValues("member") {
			if who := rdn(m); who != "" && m != s.nobody() {
				out[who] = append(out[who], e.GetAttributeValue("cn"))
			}
		}
	}
	for _, g := range out {
		slices.Sort(g)
	}
	return out, err
}

func (s *Server) guests(c *ldap.Conn, one string) (map[string]native.Kept, error) {
	in, err := s.members(c)
	if err != nil {
		return nil, err
	}
	out := map[string]native.Kept{}
	for state, unit := range units {
		list, err := search(c, "ou="+unit+","+s.Base, named("(objectClass=inetOrgPerson)", "mail", one), "mail", "manager")
		if err != nil {
			return nil, err
		}
		for _, e := range list {
			id := e.GetAttributeValue("mail")
			out[id] = native.Kept{ID: id, Fields: map[string]string{"mail": id, "state": state, "sponsor": rdn(e.GetAttributeValue("manager")),
				"groups": strings.Join(in[id], " ")}}
		}
	}
	return out, nil
}

func (s *Server) people(c *ldap.Conn, one string) (map[string]native.Kept, error) {
	in, err := s.members(c)
	if err != nil {
		return nil, err
	}
	list, err := search(c, "ou=people,"+s.Base, named("(objectClass=inetOrgPerson)", "mail", one), "mail", "cn")
	out := map[string]native.Kept{}
	for _, e := range list {
		id := e.GetAttributeValue("mail")
		out[id] = native.Kept{ID: id, Fields: map[string]string{"mail": id, "name": e.GetAttributeValue("cn"),
			"groups": strings.Join(in[id], " ")}}
	}
	return out, err
}

func (s *Server) groups(c *ldap.Conn, one string) (map[string]native.Kept, error) {
	list, err := search(c, "ou=groups,"+s.Base, named("(objectClass=groupOfNames)", "cn", one), "cn", "description")
	out := map[string]native.Kept{}
	for _, e := range list {
		id := e.GetAttributeValue("cn")
		out[id] = native.Kept{ID: id, Fields: map[string]string{"group": id, "name": e.GetAttributeValue("description")}}
	}
	return out, err
}

// put adds an entry, or changes what is said of one that is there; empty attributes are taken away.
func put(c *ldap.Conn, dn string, class []string, attrs, begins map[string][]string) error {
	r := ldap.NewAddRequest(dn, nil)
	r.Attribute("objectClass", class)
	m := ldap.NewModifyRequest(dn, nil)
	for _, k := range slices.Sorted(maps.Keys(attrs)) {
		m.Replace(k, attrs[k])
		if len(attrs[k]) > 0 {
			r.Attribute(k, attrs[k])
		}
	}
	for k, v := range begins {
		r.Attribute(k, v)
	}
	err := c.Add(r)
	if isAny(err, ldap.LDAPResultEntryAlreadyExists) {
		return c.Modify(m)
	}
	return err
}

// inGroups puts somebody into groups, and out of all others.
func (s *Server) inGroups(c *ldap.Conn, dn string, wanted []string) error {
	list, err := search(c, "ou=groups,"+s.Base, "(objectClass=groupOfNames)", "cn", "member")
	if err != nil {
		return err
	}
	for _, g := range wanted {
		if !slices.ContainsFunc(list, func(e *ldap.Entry) bool { return e.GetAttributeValue("cn") == g }) {
			return beside.Refuse("there is no group %q", g)
		}
	}
	for _, e := range list {
		members := e.GetAttributeValues("member")
		is := slices.IndexFunc(members, func(m string) bool { return m == dn || rdn(m) == rdn(dn) && m != s.nobody() })
		should := slices.Contains(wanted, e.GetAttributeValue("cn"))
		if is >= 0 && should && members[is] == dn || is < 0 && !should {
			continue
		}
		if is >= 0 {
			members = slices.Delete(members, is, is+1)
		}
		if should {
			members = append(members, dn)
		}
		if members = slices.DeleteFunc(members, func(m string) bool { return m == s.nobody() }); len(members) == 0 {
			members = []string{s.nobody()}
		}
		m := ldap.NewModifyRequest(e.DN, nil)
		m.Replace("member", members)
		if err := c.Modify(m); err != nil {
			return err
		}
	}
	return nil
}

// dropMember takes an entry of somebody away, and them out of all groups.
func (s *Server) dropMember(c *ldap.Conn, dn string) error {
	if err := s.inGroups(c, dn, nil); err != nil {
		return err
	}
	return gone(c.Del(ldap.NewDelRequest(dn, nil)))
}

func (s *Server) putGroup(c *ldap.Conn, f map[string]string) (string, error) {
	id := f["group"]
	if id == "" {
		return "", beside.Refuse("a group has an id")
	}
	var name []string
	if f["name"] != "" {
		name = []string{f["name"]}
	}
	return id, put(c, s.groupDN(id), []string{"groupOfNames"}, map[string][]string{"description": name},
		map[string][]string{"cn": {id}, "member": {s.nobody()}})
}

func (s *Server) putPerson(c *ldap.Conn, f map[string]string) (string, error) {
	a, err := addr.Parse(f["mail"])
	if err != nil {
		return "", beside.Refuse("%q is no address", f["mail"])
	}
	name := cmp.Or(f["name"], a.String())
	dn := s.dn(a.String(), "people")
	if err := put(c, dn, []string{"inetOrgPerson"}, map[string][]string{"cn": {name}, "sn": {name}},
		map[string][]string{"mail": {a.String()}}); err != nil {
		return "", err
	}
	return a.String(), s.inGroups(c, dn, strings.Fields(f["groups"]))
}

// putGuest makes a guest, or changes one. A new one has a password that nobody knows.
func (s *Server) putGuest(c *ldap.Conn, f map[string]string) (string, error) {
	a, err := addr.Parse(f["mail"])
	unit := units[f["state"]]
	if err != nil || unit == "" {
		return "", beside.Refuse("no guest is called %q and is %q", f["mail"], f["state"])
	}
	was, err := s.guests(c, a.String())
	if err != nil {
		return "", err
	}
	dn := s.dn(a.String(), unit)
	if old, ok := was[a.String()]; ok && units[old.Fields["state"]] != unit {
		m := ldap.NewModifyDNRequest(s.dn(a.String(), units[old.Fields["state"]]), "mail="+escapeDN(a.String()), true, "ou="+unit+","+s.Base)
		if err := c.ModifyDN(m); err != nil {
			return "", err
		}
	}
	var manager []string
	if f["sponsor"] != "" {
		manager = []string{s.dn(f["sponsor"], "people")}
	}
	begins := map[string][]string{"mail": {a.String()}, "cn": {a.String()}, "sn": {a.String()}, "uid": {Node(a.String())},
		"userPassword": {rand.Text()}}
	if err := put(c, dn, []string{"inetOrgPerson"}, map[string][]string{"manager": manager}, begins); err != nil {
		return "", err
	}
	return a.String(), s.inGroups(c, dn, strings.Fields(f["groups"]))
}

// Node writes an address as the part of a chat's address before the @ (XEP-0106), so that the chat finds its guests here.
func Node(address string) string { return strings.ReplaceAll(address, "@", `\40`) }

func (s *Server) dropGuest(c *ldap.Conn, id string) error {
	for _, unit := range units {
		if err := s.dropMember(c, s.dn(id, unit)); err != nil {
			return err
		}
	}
	return nil
}
