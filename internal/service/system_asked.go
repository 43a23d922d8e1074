package service

import (
	"context"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// MayForward answers a mail server before mail of a mailbox goes on to an address (systems.md §7). known is
// false where the mailbox is nobody of ours'; says is why not, in a sentence. It asks the view in memory, so
// that it answers without the database too.
func (s *Service) MayForward(_ context.Context, mailbox, to string) (yes bool, says string, known bool, err error) {
	st := s.State()
	from, err := addr.Parse(mailbox)
	if err != nil {
		return false, "", false, nil
	}
	person := st.PersonAt(from)
	if person == "" {
		return false, "", false, nil
	}
	onto, err := addr.Parse(to)
	if err != nil {
		return false, to + " is no address", true, nil
	}
	if ours(st.Policy(), onto) {
		return true, "", true, nil
	}
	act, _ := catalogue.ActionByName("mail.forward")
	q := engine.Question{
		Subject: engine.Who{Kind: engine.ByPerson, ID: person}, Action: act.ID, Resource: world.Resource{Kind: catalogue.Mailbox, ID: person},
		Address: onto, At: s.Now(),
	}
	a, err := st.Explain(&q)
	if err != nil {
		return false, "", true, err
	}
	d := a.Deciding()
	if d.Yes {
		return true, "", true, nil
	}
	return false, causesText(d.Refusals()), true, nil
}
