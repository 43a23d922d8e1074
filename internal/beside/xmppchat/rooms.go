package xmppchat

import (
	"context"
	"encoding/xml"
	"errors"
	"regexp"
	"strings"

	"mellium.im/xmlstream"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/stanza"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

// Rooms of spaces (XEP-0045): a room for each space that only its members enter, kept by an account that administers the
// host of rooms.

const (
	nsItems = "http://jabber.org/protocol/disco#items"
	nsRoom  = "http://jabber.org/protocol/muc"
	nsAdmin = nsRoom + "#admin"
	nsOwner = nsRoom + "#owner"
	nsForm  = "jabber:x:data"
)

// affiliations of a room, by our words for them.
var affiliations = map[string]string{"member": "member", "keeper": "admin"}

// asks sends a question to a room, or to the host of rooms, and reads the answer.
func (s *Server) asks(ctx context.Context, to string, kind stanza.IQType, payload xml.TokenReader, answer any) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	j, err := jid.Parse(to)
	if err != nil {
		return beside.Refuse("no room is called %q", to)
	}
	if s.keeper == nil {
		if s.keeper, err = SignIn(ctx, s.Keeper, s.CA); err != nil {
			return err
		}
	}
	if answer == nil {
		answer = &struct{}{}
	}
	err = s.keeper.UnmarshalIQElement(ctx, payload, stanza.IQ{To: j, Type: kind}, answer)
	var no stanza.Error
	switch {
	case err == nil:
	case errors.As(err, &no) && (no.Condition == stanza.ItemNotFound || no.Condition == stanza.Gone ||
		no.Type == stanza.Cancel && no.Condition == stanza.ServiceUnavailable):
		return errNoRoom
	case errors.As(err, &no):
		return beside.Refuse("the room says %s", no.Condition)
	default: // the line is down: the next question draws a new one
		s.keeper.Leave()
		s.keeper = nil
	}
	return err
}

var errNoRoom = errors.New("there is no such room")

func element(space, name string, inner xml.TokenReader, attrs ...string) xml.TokenReader {
	start := xml.StartElement{Name: xml.Name{Space: space, Local: name}}
	for i := 0; i+1 < len(attrs); i += 2 {
		start.Attr = append(start.Attr, xml.Attr{Name: xml.Name{Local: attrs[i]}, Value: attrs[i+1]})
	}
	return xmlstream.Wrap(inner, start)
}

type item struct {
	JID         string `xml:"jid,attr"`
	Name        string `xml:"name,attr"`
	Affiliation string `xml:"affiliation,attr"`
}

// rooms lists the rooms of the host: what they are called, by their ids.
func (s *Server) rooms(ctx context.Context) (map[string]string, error) {
	var x struct {
		Items []item `xml:"item"`
	}
	if err := s.asks(ctx, s.Rooms, stanza.GetIQ, element(nsItems, "query", nil), &x); err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, i := range x.Items {
		id, _, _ := strings.Cut(i.JID, "@")
		out[id] = i.Name
	}
	return out, nil
}

// inRoom lists who has which affiliation with a room, our own people left out.
func (s *Server) inRoom(ctx context.Context, room string) (map[string]string, error) {
	out := map[string]string{}
	for word, a := range affiliations {
		var x struct {
			Items []item `xml:"item"`
		}
		err := s.asks(ctx, room+"@"+s.Rooms, stanza.GetIQ, element(nsAdmin, "query", element("", "item", nil, "affiliation", a)), &x)
		if errors.Is(err, errNoRoom) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		for _, i := range x.Items {
			if _, domain, _ := strings.Cut(i.JID, "@"); domain != s.Hosts[0] {
				out[i.JID] = word
			}
		}
	}
	return out, nil
}

var roomName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,99}$`)

// makeRoom makes a room that only members enter, or gives it another title.
func (s *Server) makeRoom(ctx context.Context, id, title string) error {
	if !roomName.MatchString(id) {
		return beside.Refuse("no room can be called %q", id)
	}
	all, err := s.rooms(ctx)
	if err != nil {
		return err
	}
	room := id + "@" + s.Rooms
	if was, there := all[id]; there && was == title {
		return nil
	} else if !there { // whoever enters first makes it (XEP-0045 §10.1)
		j, err := jid.Parse(room + "/wexillum")
		if err != nil {
			return err
		}
		if err := s.keeper.Send(ctx, stanza.Presence{To: j}.Wrap(element(nsRoom, "x", nil))); err != nil {
			return err
		}
		defer func() { _ = s.keeper.Send(ctx, stanza.Presence{To: j, Type: stanza.UnavailablePresence}.Wrap(nil)) }()
	}
	var fields []xml.TokenReader
	for _, f := range [][2]string{
		{"FORM_TYPE", nsRoom + "#roomconfig"}, {"muc#roomconfig_roomname", title}, {"muc#roomconfig_persistentroom", "1"},
		{"muc#roomconfig_membersonly", "1"}, {"muc#roomconfig_publicroom", "1"}, {"muc#roomconfig_allowinvites", "0"},
	} {
		fields = append(fields, element("", "field", element("", "value", xmlstream.Token(xml.CharData(f[1]))), "var", f[0]))
	}
	form := element(nsForm, "x", xmlstream.MultiReader(fields...), "type", "submit")
	return s.asks(ctx, room, stanza.SetIQ, element(nsOwner, "query", form), nil)
}

// affiliate gives somebody an affiliation with a room; none takes it away, and whoever is inside is out (XEP-0045 §9.4).
func (s *Server) affiliate(ctx context.Context, room, who, affiliation string) error {
	return s.asks(ctx, room+"@"+s.Rooms, stanza.SetIQ,
		element(nsAdmin, "query", element("", "item", nil, "affiliation", affiliation, "jid", who)), nil)
}

func (s *Server) kept(ctx context.Context, kind string) (map[string]native.Kept, error) {
	if s.Rooms == "" {
		return nil, beside.Refuse("it keeps no %s", kind)
	}
	rooms, err := s.rooms(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]native.Kept{}
	for id, title := range rooms {
		switch kind {
		case "rooms":
			out[id] = native.Kept{ID: id, Fields: map[string]string{"room": id, "title": title}}
		case "members":
			in, err := s.inRoom(ctx, id)
			if err != nil {
				return nil, err
			}
			for who, may := range in {
				out[who+" "+id] = native.Kept{ID: who + " " + id, Fields: map[string]string{"who": who, "room": id, "may": may}}
			}
		default:
			return nil, beside.Refuse("there are no %s", kind)
		}
	}
	return out, nil
}

// List hands over rooms, or their members from outside.
func (s *Server) List(ctx context.Context, kind string, fn func(native.Kept) error) error {
	s.mu.Lock()
	all, err := s.kept(ctx, kind)
	s.mu.Unlock()
	if err != nil {
		return err
	}
	return beside.Each(all, fn)
}

// One returns a room or a member; nil where it is not there.
func (s *Server) One(ctx context.Context, kind, id string) (*native.Kept, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if who, room, ok := strings.Cut(id, " "); ok && kind == "members" {
		in, err := s.inRoom(ctx, room)
		if may, there := in[who]; there {
			return &native.Kept{ID: id, Fields: map[string]string{"who": who, "room": room, "may": may}}, nil
		}
		return nil, err
	}
	all, err := s.kept(ctx, kind)
	if k, there := all[id]; there {
		return &k, err
	}
	return nil, err
}

// Put makes a room or a member, or changes one.
func (s *Server) Put(ctx context.Context, kind, _ string, f map[string]string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.Rooms == "":
		return "", beside.Refuse("it keeps no %s", kind)
	case kind == "rooms":
		return f["room"], s.makeRoom(ctx, f["room"], f["title"])
	case kind != "members":
		return "", beside.Refuse("there are no %s", kind)
	}
	a, err := addr.Parse(f["who"])
	affiliation := affiliations[f["may"]]
	if err != nil || affiliation == "" || !roomName.MatchString(f["room"]) {
		return "", beside.Refuse("%q cannot be %q of %q", f["who"], f["may"], f["room"])
	}
	return a.String() + " " + f["room"], s.affiliate(ctx, f["room"], a.String(), affiliation)
}

// Drop takes a room away, or a member out of one.
func (s *Server) Drop(ctx context.Context, kind, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	err := error(nil)
	switch who, room, ok := strings.Cut(id, " "); {
	case s.Rooms == "":
		return beside.Refuse("it keeps no %s", kind)
	case kind == "rooms":
		err = s.asks(ctx, id+"@"+s.Rooms, stanza.SetIQ, element(nsOwner, "query", element("", "destroy", nil)), nil)
	case kind == "members" && ok:
		err = s.affiliate(ctx, room, who, "none")
	default:
		return beside.Refuse("there are no %s", kind)
	}
	if errors.Is(err, errNoRoom) {
		return nil
	}
	return err
}
