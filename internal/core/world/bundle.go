package world

import (
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// Gift is one (resource, role) of a bundle.
type Gift struct {
	Resource Resource
	Role     catalogue.Role
}

// Bundle is a set of gifts that people of certain partners may ask for
// (practice §1). Who holds it holds what is in it at any moment: a change of
// the bundle is a change for all of them.
type Bundle struct {
	ID         string
	Name       string
	Gives      []Gift
	Partners   []string // whose people may ask, with a record or not
	Others     bool     // anybody whose address may be invited may ask
	Closed     bool     // nobody may ask for it any more; whoever holds it keeps it
	Approval   []string // who approves, in order: BySponsor, ByOwner, ByKeeper, ByAdministrator or a person's id; empty: a keeper
	Questions  []string
	TermDays   catalogue.Value // for how long it is given at most; Unset or NoLimit: for as long as the rules let
	ReviewDays catalogue.Value
	NotWith    []string // bundles that nobody holds beside it
	Silent     bool     // whoever holds it extends it without an approval
}

// Bundle finds a bundle; nil where there is none.
func (p *Policy) Bundle(id string) *Bundle {
	for i := range p.Bundles {
		if p.Bundles[i].ID == id {
			return &p.Bundles[i]
		}
	}
	return nil
}

// For reports whether people of a partner may ask for a bundle; empty is
// nobody's partner.
func (b *Bundle) For(partner string) bool {
	return b.Others || partner != "" && slices.Contains(b.Partners, partner)
}

// Approvers of a bundle who are no persons by name.
const (
	BySponsor       = "sponsor"
	ByOwner         = "owner"
	ByKeeper        = "keeper"
	ByAdministrator = "administrator"
)

// Holding is a bundle that was given to somebody. What it grants follows at any
// moment from the bundle then in force. A round of review may make it narrower,
// which is what Less says.
type Holding struct {
	Party       addr.Address
	Bundle      string
	From, Until moment.Moment
	Sponsor     string        // a person's id, or empty
	Less        []Gift        // of what the bundle gives: with the role that is given instead, or NoRole where it is left out
	Reviewed    moment.Moment // Always where none is said
	Waits       moment.Moment // until when a round of review asks about it: it counts as looked at then; 0 where none does
}

// Key names a holding: one for each party and bundle.
func (h *Holding) Key() string { return HoldingKey(h.Party.String(), h.Bundle) }

// HoldingKey names the holding of a party, as it is written, and a bundle.
func HoldingKey(party, bundle string) string { return party + " of " + bundle }

// HoldingOf reads the key of a holding.
func HoldingOf(key string) (party, bundle string) {
	i := strings.LastIndex(key, " of ")
	if i < 0 {
		return key, ""
	}
	return key[:i], key[i+len(" of "):]
}

// MostBundles is how many bundles a policy has at most.
const MostBundles = 1000

// Grants are what a holding of a bundle gives, in the bundle's order.
func (b *Bundle) Grants(h *Holding) (out []Grant) {
	for _, g := range b.Gives {
		for _, l := range h.Less {
			if l.Resource == g.Resource && l.Role < g.Role {
				g.Role = l.Role
			}
		}
		if g.Role != catalogue.NoRole {
			out = append(out, Grant{Address: h.Party, Resource: g.Resource, Role: g.Role, From: h.From, Until: h.Until, Sponsor: h.Sponsor,
				Reviewed: h.Reviewed, Waits: h.Waits, Bundle: b.ID})
		}
	}
	return out
}
