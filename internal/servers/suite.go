package servers

import (
	"context"
	"crypto/rand"
	"fmt"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/beside/videorooms"
	"wexillum.example/internal/beside/xmppchat"
)

// Suite is a server of every kind, and a partner's chat.
type Suite struct {
	Files     *Apache
	Chat      *Prosody
	Theirs    *Ejabberd
	Calendars *Cyrus
	Directory *Slapd
	Mail      *Mail  // nil where nobody is asked
	Meetings  *Janus // nil where nobody is asked
	CA        *Authority
	names     *Names
}

// Asked is who is asked live.
type Asked struct {
	Outside  int                   // the port of loopback at which everybody else's mail server is; 0 for no mail server
	Forwards int                   // the port of loopback at which is asked whether a letter may go on
	Meetings *videorooms.Decisions // who decides who comes into a meeting; nil for no conference server
}

// Suite starts servers of every kind for a domain, and the chat of a partner. Mail and meetings are among them where it is
// said who is asked.
func (r *Root) Suite(ctx context.Context, domain, partner string, asked Asked) (s *Suite, err error) {
	s = &Suite{}
	defer func() {
		if err != nil {
			s.Stop()
		}
	}()
	if s.CA, err = NewAuthority(); err != nil {
		return s, err
	}
	if s.names, err = NewNames(); err != nil {
		return s, err
	}
	if s.Files, err = r.Apache(ctx, []string{domain}); err != nil {
		return s, err
	}
	if s.Calendars, err = r.Cyrus(ctx, domain); err != nil {
		return s, err
	}
	if s.Directory, err = r.Slapd(ctx, domain); err != nil {
		return s, err
	}
	if asked.Outside > 0 && asked.Forwards > 0 {
		if s.Mail, err = r.Mail(ctx, domain, asked.Outside, asked.Forwards); err != nil {
			return s, err
		}
	}
	if asked.Meetings != nil {
		if s.Meetings, err = r.Janus(ctx, []string{domain}, 500*time.Millisecond, asked.Meetings.Ask); err != nil {
			return s, err
		}
	}
	if s.Chat, err = r.Prosody(ctx, domain, s.names, s.CA, s.Directory); err != nil {
		return s, err
	}
	if s.Theirs, err = r.Ejabberd(ctx, partner, s.names, s.CA); err != nil {
		return s, err
	}
	b := s.Chat.Beside
	if b.Ours, err = s.Chat.Account(ctx, "trial", domain, rand.Text()); err != nil {
		return s, err
	}
	theirs, err := s.Theirs.Account(ctx, "trial", rand.Text())
	b.Out = []xmppchat.Account{theirs}
	return s, err
}

// Named is what stands beside a server, by what the server carries.
type Named struct {
	Name   string
	Server beside.Server
}

// Beside lists what stands beside each server.
func (s *Suite) Beside() []Named {
	out := []Named{{"directory", s.Directory.Beside}, {"files", s.Files.Beside}, {"chat", s.Chat.Beside}, {"calendars", s.Calendars.Beside}}
	if s.Mail != nil {
		out = append(out, Named{"mail", s.Mail.Beside})
	}
	if s.Meetings != nil {
		out = append(out, Named{"meetings", s.Meetings.Beside})
	}
	return out
}

// Says tells where the servers themselves are, and which accounts trials use.
func (s *Suite) Says() []string {
	out := []string{
		"# files themselves     " + s.Files.URL,
		"# calendars themselves " + s.Calendars.Beside.CalDAV,
		"# directory itself     " + s.Directory.Beside.Server + " " + s.Directory.Beside.Base,
		fmt.Sprintf("# chat itself          %s (ours), %s (%s, a partner's, another kind of server)", s.Chat.Beside.Ours.Server,
			s.Chat.Beside.Out[0].Server, s.Theirs.Domain),
		fmt.Sprintf("# trial accounts       %s, %s", s.Chat.Beside.Ours.Address, s.Chat.Beside.Out[0].Address),
	}
	if s.Mail != nil {
		out = append(out, "# mail itself          "+s.Mail.In+", and "+s.Mail.Beside.Submission+" for what goes on")
	}
	if s.Meetings != nil {
		out = append(out, "# meetings themselves  "+s.Meetings.Beside.Server)
	}
	return out
}

// Stop ends all.
func (s *Suite) Stop() {
	if s.Files != nil {
		s.Files.Stop()
	}
	if s.Calendars != nil {
		s.Calendars.Stop()
	}
	if s.Directory != nil {
		s.Directory.Stop()
	}
	if s.Mail != nil {
		s.Mail.Stop()
	}
	if s.Meetings != nil {
		s.Meetings.Stop()
	}
	if s.Chat != nil {
		s.Chat.Stop()
	}
	if s.Theirs != nil {
		s.Theirs.Stop()
	}
	if s.names != nil {
		s.names.Close()
	}
}
