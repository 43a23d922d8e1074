package videorooms

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
)

// Pass is what somebody comes in with: once, within a minute.
type Pass struct {
	Server   string `json:"server"`
	Room     string `json:"room"`
	Token    string `json:"token"`
	ID       string `json:"id"`                 // who they are inside
	Passcode string `json:"passcode,omitempty"` // absent where they must know it
}

// passLasts is how long a pass waits for whoever was given it.
const passLasts = time.Minute

const (
	held    = "held_until_admitted"
	noPlace = "they would have to wait until somebody lets them in, and these rooms have no place to wait"
)

// met are the conditions that are seen to here: the passcode by the server, being signed in by whoever calls.
var met = []string{"passcode", "sign_in", "one_time_code", "counterpart_unconfirmed", "settling", "no_browsing"}

// may asks whether somebody may be in a room; passcode says whether they must know its passcode.
func (s *Server) may(ctx context.Context, who addr.Address, id string, hostIn bool) (passcode bool, says string, err error) {
	if slices.Contains(s.Ours, who.Domain().String()) {
		return false, "", nil
	}
	actions := []string{"meetings.join"}
	if !hostIn {
		actions = append(actions, "meetings.join_early")
	}
	for _, action := range actions {
		x, err := s.Asks(ctx, who.String(), action, id)
		if err != nil {
			return false, "", err
		}
		if !x.Yes {
			return false, x.Says, nil
		}
		for _, c := range x.Conditions {
			if c == held {
				return false, noPlace, nil
			}
			if !slices.Contains(met, c) {
				return false, "what is asked for besides cannot be seen to here: " + c, nil
			}
			passcode = passcode || c == "passcode"
		}
	}
	return passcode, "", nil
}

// Enter gives a pass to somebody who has signed in, or says why there is none.
func (s *Server) Enter(ctx context.Context, id, address string) (p Pass, says string, err error) {
	who, err := addr.Parse(address)
	if err != nil {
		return p, "", beside.Refuse("%q is no address", address)
	}
	k, err := s.One(ctx, "rooms", id)
	if err != nil {
		return p, "", err
	}
	if k == nil {
		return p, "there is no such room", nil
	}
	inside, err := s.Inside(ctx, id)
	if err != nil {
		return p, "", err
	}
	return s.give(ctx, id, who, s.isIn(id, inside, k.Fields["host"]))
}

// give gives a pass where the host is inside, or is not.
func (s *Server) give(ctx context.Context, id string, who addr.Address, hostIn bool) (p Pass, says string, err error) {
	asked, says, err := s.may(ctx, who, id, hostIn)
	if err != nil {
		return p, "nobody answers whether they may: " + err.Error(), nil
	}
	if says != "" {
		return p, says, nil
	}
	p = Pass{Server: s.Server, Room: id, Token: rand.Text(), ID: s.place(id, who.String(), rand.Text()[:10])}
	if !asked {
		p.Passcode = s.passcode(id)
	}
	if err := s.allow(ctx, id, "add", p.Token); err != nil {
		return Pass{}, "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sent[p.ID] = pass{id, p.Token, time.Now().Add(passLasts)}
	s.was[p.ID] = time.Now()
	return p, "", nil
}

func (s *Server) allow(ctx context.Context, id, what string, tokens ...string) error {
	body := map[string]any{"request": "allowed", "secret": s.secret("room", id), "room": id, "action": what}
	if len(tokens) > 0 {
		body["allowed"] = tokens
	}
	_, err := s.order(ctx, body)
	return err
}

// place is who somebody is inside: it says their address, and that we gave it.
func (s *Server) place(room, address, nonce string) string {
	return address + "~" + nonce + "~" + s.secret("place", room, address, nonce)
}

// whose reads a place; ok is false where it is none that we gave.
func (s *Server) whose(room, place string) (who addr.Address, ok bool) {
	f := strings.Split(place, "~")
	if len(f) < 3 {
		return who, false
	}
	address, nonce := strings.Join(f[:len(f)-2], "~"), f[len(f)-2]
	who, err := addr.Parse(address)
	return who, err == nil && hmac.Equal([]byte(place), []byte(s.place(room, address, nonce)))
}

// Inside lists who is in a room; none where it is not there.
func (s *Server) Inside(ctx context.Context, id string) (out []string, err error) {
	x, err := s.order(ctx, map[string]any{"request": "listparticipants", "room": id})
	if isCode(err, noSuchRoom) {
		return nil, nil
	}
	for _, p := range x.Participants {
		out = append(out, p.ID)
	}
	return out, err
}

func (s *Server) isIn(room string, inside []string, host string) bool {
	return slices.ContainsFunc(inside, func(p string) bool {
		who, ok := s.whose(room, p)
		return ok && who.String() == host
	})
}

// Look goes once round all rooms: who may not be inside any more is put out, passes that were used or waited too long are
// worth nothing, and the check of tokens is on, whoever turned it off.
func (s *Server) Look(ctx context.Context) error {
	all, err := s.rooms(ctx)
	if err != nil {
		return err
	}
	for id := range all {
		if err := s.allow(ctx, id, "enable"); isCode(err, unauthorised) || isCode(err, noSuchRoom) { // not ours, or gone meanwhile
			continue
		} else if err != nil {
			return err
		}
		inside, err := s.Inside(ctx, id)
		if err != nil {
			return err
		}
		for _, p := range inside {
			out, err := s.goes(ctx, id, p)
			if err != nil {
				return err
			}
			if !out {
				continue
			}
			if _, err := s.order(ctx, map[string]any{"request": "kick", "room": id, "secret": s.secret("room", id), "id": p}); err != nil &&
				!isCode(err, noSuchRoom) && !isCode(err, noSuchPlace) {
				return err
			}
		}
		if err := s.used(ctx, id, inside); err != nil {
			return err
		}
	}
	return nil
}

// noSuchPlace is the plugin's code for somebody who is not inside.
const noSuchPlace = 428

// goes reports whether somebody inside is to be put out. Who was let in before the host is not put out because the host
// has left.
func (s *Server) goes(ctx context.Context, room, place string) (bool, error) {
	who, ok := s.whose(room, place)
	if !ok {
		return true, nil
	}
	_, says, err := s.may(ctx, who, room, true)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case ctx.Err() != nil:
		return false, ctx.Err()
	case err == nil && says == "":
		s.was[place] = time.Now()
		return false, nil
	case err == nil:
		delete(s.was, place)
		return true, nil
	}
	if _, ok := s.was[place]; !ok { // inside since before this program began
		s.was[place] = time.Now()
	}
	return time.Since(s.was[place]) > s.Stays, nil
}

// used makes passes of a room worth nothing that somebody came in with, or that waited too long.
func (s *Server) used(ctx context.Context, room string, inside []string) error {
	s.mu.Lock()
	var tokens, places []string
	for place, p := range s.sent {
		if p.room == room && (slices.Contains(inside, place) || time.Now().After(p.until)) {
			tokens, places = append(tokens, p.token), append(places, place)
		}
	}
	s.mu.Unlock()
	if len(tokens) == 0 {
		return nil
	}
	if err := s.allow(ctx, room, "remove", tokens...); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range places {
		delete(s.sent, p)
	}
	return nil
}

// Watch looks again and again until the context ends; what goes wrong is handed to said.
func (s *Server) Watch(ctx context.Context, said func(error)) {
	for {
		if err := s.Look(ctx); err != nil && ctx.Err() == nil && said != nil {
			said(err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(s.Every):
		}
	}
}

// Joined is somebody in a room.
type Joined struct {
	s  *Server
	at string
	in string
}

// Join goes into a room as its clients do; refused is what the server says where it does not let them in.
func (s *Server) Join(ctx context.Context, p Pass, passcode string) (j *Joined, refused string, err error) {
	x, err := s.post(ctx, p.Server, map[string]any{"janus": "create"})
	if err != nil {
		return nil, "", err
	}
	j = &Joined{s: s, in: fmt.Sprintf("%s/%d", p.Server, x.Data.ID)}
	defer func() {
		if err != nil || refused != "" {
			j.Leave(ctx)
			j = nil
		}
	}()
	y, err := s.post(ctx, j.in, map[string]any{"janus": "attach", "plugin": "janus.plugin.videoroom"})
	if err != nil {
		return j, "", err
	}
	j.at = fmt.Sprintf("%s/%d", j.in, y.Data.ID)
	body := map[string]any{"request": "join", "ptype": "publisher", "room": p.Room, "display": "trial"}
	for k, v := range map[string]string{"token": p.Token, "pin": passcode, "id": p.ID} {
		if v != "" {
			body[k] = v
		}
	}
	if _, err = s.post(ctx, j.at, map[string]any{"janus": "message", "body": body}); err != nil {
		return j, "", err
	}
	e, err := j.await(ctx, func(d *said) bool { return d.Videoroom == "joined" || d.Code != 0 })
	if err == nil && e.Code != 0 {
		refused = fmt.Sprintf("%s (%d)", e.Error, e.Code)
	}
	return j, refused, err
}

// await waits for an event that is what is waited for.
func (j *Joined) await(ctx context.Context, is func(*said) bool) (said, error) {
	for {
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, j.in, nil)
		if err != nil {
			return said{}, err
		}
		var x answer
		if err := receive(q, &x); err != nil {
			return said{}, err
		}
		if is(&x.Plugin.Data) {
			return x.Plugin.Data, nil
		}
	}
}

// Out waits until somebody is put out.
func (j *Joined) Out(ctx context.Context) error {
	_, err := j.await(ctx, func(d *said) bool { return d.Videoroom == "destroyed" || d.Leaving == "ok" })
	return err
}

// Leave goes out.
func (j *Joined) Leave(ctx context.Context) {
	_, _ = j.s.post(context.WithoutCancel(ctx), j.in, map[string]any{"janus": "destroy"})
}
