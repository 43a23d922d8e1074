// Package demo fills an empty database with the demo world and the accounts that
// look around in it.
package demo

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"wexillum.example/internal/core/statement"
	"wexillum.example/internal/scim"
	"wexillum.example/internal/service"
	"wexillum.example/internal/standin"
	statements "wexillum.example/internal/statement"
)

// World is the demo world: a world file with dates relative to its loading.
//
//go:embed world.yaml
var World []byte

// Account is a sign-in of the demo. Only the demo has passwords that are known.
type Account struct{ Name, Password, Role, Person string }

// Accounts are the sign-ins of the demo.
var Accounts = []Account{
	{"harbour", "low-water-2026", "administrator", "t.wrayburn"},
	{"lantern", "read-the-log-2026", "auditor", "i.calloway"},
	{"mooring", "keep-the-ropes-2026", "keeper", "s.lindqvane"},
	{"rigger", "up-the-mast-2026", "member", "d.ekwinter"},
}

// Fill loads the demo into a database that holds nothing yet.
func Fill(ctx context.Context, svc *service.Service) error {
	if svc.State().Head.Seq > 0 {
		return nil
	}
	if _, err := svc.Load(ctx, "demo", "the demo world", "demo", World, false); err != nil {
		return err
	}
	began := service.DatesRelease{From: "now", Steps: true, Mail: true, Confirm: true, Why: "the demo's dates count from its beginning"}
	if _, err := svc.ReleaseDates(ctx, service.Who{Name: "demo", Role: service.Administrator}, began, false); err != nil {
		return err
	}
	for _, a := range Accounts {
		if err := svc.MakeAccount(ctx, "demo", "sign-ins of the demo", service.Account{Name: a.Name, Role: a.Role, Person: a.Person},
			a.Password); err != nil {
			return err
		}
	}
	return waiting(ctx, svc)
}

// waiting leaves something to be answered and looked at: guests who ask for more time, and
// an invitation whose mailbox there is none of.
func waiting(ctx context.Context, svc *service.Service) error {
	for _, w := range []struct{ guest, until, text string }{
		{"imke.ekwinter@orrin.example", "+14d", "The lamp room needs two more weeks of rigging."},
		{"yorick.tidewell@pallowick.example", "+90d", "The plan of the stands is only half drawn."},
	} {
		if _, err := svc.WishMore(ctx, service.Who{Name: service.GuestName(w.guest), Role: service.RoleGuest, Guest: w.guest}, w.until,
			w.text); err != nil {
			return err
		}
	}
	if err := feed(ctx, svc); err != nil {
		return err
	}
	_, err := svc.ChangeGuests(ctx, service.Who{Name: Accounts[2].Name, Role: service.Keeper}, service.GuestChange{
		Do: service.Remind, Addresses: []string{standin.NoMailbox + ".quillfeather@pallowick.example"}}, false)
	return err
}

// feed lets the museums' league tell of its people, watched: some are kept already, one was invited here before, one has
// left, and one is not theirs.
func feed(ctx context.Context, svc *service.Service) error {
	sponsor := Accounts[0].Person
	token, err := svc.BeginFeed(ctx, service.Who{Name: Accounts[0].Name, Role: service.Administrator}, "sandrill",
		"their people come and go every week", service.FeedSet{Sponsor: &sponsor})
	if err != nil {
		return err
	}
	who, err := svc.Bearer(ctx, token)
	if err != nil {
		return err
	}
	for _, text := range feedTells {
		u, wrong := scim.Read([]byte(text))
		if wrong != nil {
			return wrong
		}
		var no *scim.Error
		if _, err := svc.FeedCreate(ctx, who, u); err != nil && !errors.As(err, &no) { // a refusal stands in the log
			return err
		}
	}
	return nil
}

// feedTells are the people of whom the league's feed tells.
var feedTells = func() (out []string) {
	for _, p := range [][4]string{
		{"emeric.mossgrove@sandrill.example", "Emeric Mossgrove", "en", "true"},
		{"dunstan.saltmarsh@sandrill.example", "Dunstan Saltmarsh", "en", "true"},
		{"viggo.oakhaven@sandrill.example", "Viggo Oakhaven", "en", "false"},
		{"tamsin.ferrow@sandrill.example", "Tamsin Ferrow", "en-GB", "true"},
		{"ulla.pennick@sandrill.example", "Ulla Pennick", "pt-PT", "true"},
		{"nils.carrowby@sandrill.example", "Nils Carrowby", "en", "true"},
		{"quill.quillfeather@sandrill.example", "Quill Quillfeather", "en", "true"},
		{"ottilie.marsh@elsewhere.example", "Ottilie Marsh", "en", "true"},
	} {
		out = append(out, fmt.Sprintf(`{"schemas": [%q], "userName": %q, "displayName": %q, "preferredLanguage": %q, "active": %s}`,
			scim.UserSchema, p[0], p[1], p[2], p[3]))
	}
	return
}()

// Second is the demo's second organisation.
func Second() (*standin.Neighbour, error) {
	n, err := standin.NewNeighbour("Ilvane Conservation", "ilvane.example", "directory.out", "spaces.out", "chat.in", "chat.out",
		"meetings.out", "files.out", "mail.out")
	if err == nil {
		n.Say("chat.out", statement.Half{Says: "admits", Features: []string{"messages", "voice"}})
		n.People = &standin.People{Token: standin.PeopleToken}
	}
	return n, err
}

// People fills the second organisation's directory, where it is empty: one of ours was put in by hand once, another has an address of
// theirs.
func People(p *standin.People) error {
	if len(p.Said()) > 0 {
		return nil
	}
	for _, x := range [][2]string{{"o.tidewell@brackwater.example", "O. Tidewell"}, {"runa.yarrowick@ilvane.example", "Runa Yarrowick"},
		{"maren.holtveig@ilvane.example", "Maren Holtveig"}} {
		if err := p.Add(fmt.Sprintf(`{"schemas": [%q], "userName": %q, "displayName": %q}`, scim.UserSchema, x[0], x[1])); err != nil {
			return err
		}
	}
	return nil
}

// FeedOut begins a feed of our curators into the second organisation's directory, held, where there is none yet; its token is kept in a
// folder. One that is there learns where the directory is now.
func FeedOut(ctx context.Context, svc *service.Service, address, dir string) error {
	if _, err := svc.State().Partner(NeighbourPartner); err != nil {
		return nil
	}
	who := service.Who{Name: Accounts[0].Name, Role: service.Administrator}
	at := address + "/scim/v2"
	if f, err := svc.FeedOutOf(ctx, NeighbourPartner); err == nil {
		if f.Address == at {
			return nil
		}
		return svc.SetFeedOut(ctx, who, NeighbourPartner, "where the demo's second organisation is", service.FeedOutSet{Address: &at})
	}
	if !svc.State().Has("group", "curators") {
		return nil
	}
	path := filepath.Join(dir, "neighbour.token")
	if err := os.WriteFile(path, []byte(standin.PeopleToken), 0o600); err != nil {
		return err
	}
	key, scope := "file:"+path, service.ScopeGroups
	return svc.BeginFeedOut(ctx, who, NeighbourPartner, "the curators work in their laboratory every week",
		service.FeedOutSet{Address: &at, Key: &key, Scope: &scope, Of: &[]string{"curators"}})
}

// Neighbour writes where the demo's second organisation publishes its statement and lets
// its people sign in. It concerns a demo that runs on the world it was filled with; a world
// without that partner is left alone.
func Neighbour(ctx context.Context, svc *service.Service, address string) error {
	if _, err := svc.State().Partner(NeighbourPartner); err != nil {
		return nil
	}
	by := service.By{Who: "demo", Why: "where the demo's second organisation is"}
	return svc.SetServers(ctx, by, NeighbourPartner, address+statements.StatementPath, address, standin.SignInClient)
}

// MailFrom is from whom the demo's mail comes.
const MailFrom = "Brackwater Museum of Navigation <guests@brackwater.example>"

// NeighbourPartner is the partner that the demo's second organisation stands for.
const NeighbourPartner = "ilvane"
