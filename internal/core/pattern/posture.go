package pattern

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Posture is where an organisation stands towards outsiders to begin with: the
// defaults of the rules that open most. Limits stay as they are, so that a
// place or a partner may be opened further.
//
// A new installation asks for one of them in place of eighty rules.
type Posture struct {
	Name, Title, Says string
	Rules             []world.RuleSetting // defaults alone
}

// defaults makes defaults of pairs, and leaves limits alone.
func defaults(pairs ...string) (out []world.RuleSetting) {
	for _, s := range rules(pairs...) {
		out = append(out, world.RuleSetting{Rule: s.Rule, Limit: catalogue.Unset, Default: s.Value, Counts: catalogue.Unset})
	}
	return
}

// Each names the same rules, so that going from one to another leaves nothing
// behind.
var postures = []Posture{
	{"closed", "Closed", "Nobody from outside gets in anywhere, and no mail is forwarded. Open things one by one.", defaults(
		"directory.guests", "off", "directory.invite_by", "nobody", "directory.invite_domains", "closed", "directory.personal", "off",
		"spaces.guests", "off", "spaces.pages", "off", "spaces.connect", "closed", "spaces.join_in", "closed",
		"chat.federation", "closed", "chat.personal", "off", "chat.guests", "off",
		"meetings.outsiders", "none", "files.given_to", "inside", "files.domains", "closed", "files.bearer_links", "off",
		"mail.calendar", "none", "mail.forward", "closed", "reports.given_to", "inside",
	)},
	{"guests", "Guests we invite",
		"Introducers invite guests from partners you list. A space opens for them where its owner says so. Links work only for those they name.",
		defaults(
			"directory.guests", "on", "directory.invite_by", "introducers", "directory.invite_domains", "listed", "directory.personal", "off",
			"spaces.guests", "off", "spaces.pages", "on", "spaces.connect", "closed", "spaces.join_in", "closed",
			"chat.federation", "closed", "chat.personal", "off", "chat.guests", "on",
			"meetings.outsiders", "known", "files.given_to", "known", "files.domains", "listed", "files.bearer_links", "off",
			"mail.calendar", "none", "mail.forward", "closed", "reports.given_to", "known",
		)},
	{"partners", "Partners work with us",
		"Besides guests, people of partners you open chat with yours, see when they are busy, and join meetings by signing in.", defaults(
			"directory.guests", "on", "directory.invite_by", "staff", "directory.invite_domains", "listed", "directory.personal", "off",
			"spaces.guests", "on", "spaces.pages", "on", "spaces.connect", "listed", "spaces.join_in", "listed",
			"chat.federation", "listed", "chat.personal", "off", "chat.guests", "on",
			"meetings.outsiders", "signed_in", "files.given_to", "newcomers", "files.domains", "listed", "files.bearer_links", "off",
			"mail.calendar", "busy", "mail.forward", "closed", "reports.given_to", "known",
		)},
	{"open", "Open to most",
		"Everybody of yours may invite anybody, private addresses too. Anyone may join meetings and chat. Links to whoever holds them work for 14 days.",
		defaults(
			"directory.guests", "on", "directory.invite_by", "staff", "directory.invite_domains", "any", "directory.personal", "on",
			"spaces.guests", "on", "spaces.pages", "on", "spaces.connect", "any", "spaces.join_in", "any",
			"chat.federation", "any", "chat.personal", "on", "chat.guests", "on",
			"meetings.outsiders", "anyone", "files.given_to", "newcomers", "files.domains", "any", "files.bearer_links", "on",
			"mail.calendar", "busy", "mail.forward", "closed", "reports.given_to", "newcomers",
		)},
}

// Postures lists the postures from closed to open.
func Postures() []Posture { return postures }

// PostureNamed finds a posture by its name.
func PostureNamed(name string) (*Posture, bool) {
	for i := range postures {
		if postures[i].Name == name {
			return &postures[i], true
		}
	}
	return nil, false
}
