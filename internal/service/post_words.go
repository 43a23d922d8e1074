package service

import (
	"fmt"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// dayWords writes the last day that holds before an end.
func dayWords(end moment.Moment, st *State, language string) string {
	if !end.IsSet() {
		return ""
	}
	y, m, d := moment.CountedOnFrom(end, st.Zone()).Date()
	if language == "pt" {
		return fmt.Sprintf("%d de %s de %d", d, months["pt"][m-1], y)
	}
	return fmt.Sprintf("%d %s %d", d, months["en"][m-1], y)
}

var roleWords = map[string]map[catalogue.Role]string{
	"en": {catalogue.View: "view", catalogue.Contribute: "view and contribute", catalogue.Manage: "view, contribute and manage"},
	"pt": {catalogue.View: "ver", catalogue.Contribute: "ver e contribuir", catalogue.Manage: "ver, contribuir e gerir"},
}

var causeSaid = map[string]map[dated.Cause]string{
	"en": {
		dated.ByUntil:      "that was agreed when it was given",
		dated.ByReview:     "nobody confirmed that you still need it",
		dated.ByLastGrant:  "nothing is open for you any more",
		dated.ByTerm:       "guests stay for a time, and yours was not renewed",
		dated.ByOwnUntil:   "its end was reached",
		dated.ByIdle:       "you were not here for a long time",
		dated.BySponsor:    "whoever answered for you left",
		dated.ByHomeClosed: "your own organisation closed your account",
		dated.ByPartner:    "the connection with your organisation ended",
		dated.ByHand:       "it was suspended",
	},
	"pt": {
		dated.ByUntil:      "foi o combinado quando foi dado",
		dated.ByReview:     "ninguém confirmou que ainda precisa dele",
		dated.ByLastGrant:  "já nada lhe está aberto",
		dated.ByTerm:       "os convidados ficam por um prazo, e o seu não foi renovado",
		dated.ByOwnUntil:   "chegou ao fim",
		dated.ByIdle:       "não apareceu durante muito tempo",
		dated.BySponsor:    "quem respondia por si saiu",
		dated.ByHomeClosed: "a sua organização fechou a sua conta",
		dated.ByPartner:    "a ligação com a sua organização acabou",
		dated.ByHand:       "foi suspenso",
	},
}

// countWords count what somebody is asked to take over.
var countWords = map[string]func(guests, grants int) string{
	"en": func(a, b int) string {
		return fmt.Sprintf("%d %s, %d %s", a, plural(a, "guest", "guests"), b, plural(b, "grant", "grants"))
	},
	"pt": func(a, b int) string {
		return fmt.Sprintf("%d %s, %d %s", a, plural(a, "convidado", "convidados"), b, plural(b, "permissão", "permissões"))
	},
}

func plural(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}

// besideOrder is the order in which they are told.
var besideOrder = []string{"chat.message", "chat.call", "meetings.join", "directory.look_up", "mail.see_busy"}

// beside says what a guest who is invited will be able to do where no role is needed: asked of the
// state in which they have accepted.
func (s *Service) beside(st *State, g *world.Guest, language string) (out []string) {
	now := s.Now()
	e := st.Aside()
	next := *g
	next.State, next.StateSince, next.Accepted, next.Terms = world.StateActive, moment.Always, now, now
	e.PutGuest(&next)
	lines, _, err := e.Done().Reach(engine.Who{Address: g.Address}, now)
	if err != nil {
		return nil
	}
	can := map[string]bool{}
	for i := range lines {
		if lines[i].Yes {
			can[lines[i].Action.Get().Name] = true
		}
	}
	for _, name := range besideOrder {
		if can[name] {
			out = append(out, besideWords[language][name])
		}
	}
	return
}

var valueOn = func() catalogue.Value {
	v, err := ruleLeave.Get().Scale.Parse("on")
	if err != nil {
		panic(err)
	}
	return v
}()
