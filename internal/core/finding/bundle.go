package finding

import (
	"slices"
	"strings"

	"wexillum.example/internal/core/check"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// bundles looks for bundles that cannot do what they are for, and for holders
// whom they are not for (practice §1). Closed ones are asked less: nobody asks
// for them any more.
func (f *finder) bundles() {
	for i := range f.w.Bundles {
		b := &f.w.Bundles[i]
		about := one("bundle:" + b.ID)
		var gone, unowned []string
		for _, g := range b.Gives {
			switch name := g.Resource.String(); {
			case !f.s.Has(g.Resource.Kind.String(), g.Resource.ID):
				gone = append(gone, name)
			case len(f.s.OwnersHere(g.Resource, f.at)) == 0:
				unowned = append(unowned, name)
			}
		}
		if len(gone) > 0 {
			f.add("bundle_gives_gone", about, []Number{{"resources", len(gone)}}, "The bundle %s gives %s, which is no more.", b.Name,
				strings.Join(gone, ", "))
		}
		if len(unowned) > 0 && !b.Closed {
			f.add("bundle_nobody_answers", about, []Number{{"resources", len(unowned)}},
				"Nobody owns %s, which the bundle %s gives; so nobody may be given it.", strings.Join(unowned, ", "), b.Name)
		}
		for _, by := range b.Approval {
			switch by {
			case world.BySponsor, world.ByOwner, world.ByKeeper, world.ByAdministrator:
				continue
			}
			if left := f.s.LeftAt(by); !f.s.Has("person", by) || left != 0 && left <= f.at {
				f.add("bundle_approver_left", one("bundle:"+b.ID, "person:"+by), []Number{{"people", 1}},
					"%s approves the bundle %s and has left; a keeper decides meanwhile.", by, b.Name)
			}
		}
		if !b.Closed && len(gone) < len(b.Gives) {
			f.opensNothing(b)
		}
		for j := range f.w.Bundles {
			if o := &f.w.Bundles[j]; j != i && !b.Closed && !o.Closed && covers(o, b) && (i > j || !covers(b, o)) {
				f.add("bundles_overlap", one("bundle:"+b.ID, "bundle:"+o.ID), nil, "The bundle %s gives everything that %s gives, to the same people.",
					o.Name, b.Name)
			}
		}
	}
}

// holders looks for holders whom a bundle is not for.
func (f *finder) holders() {
	for i := range f.w.Holdings {
		h := &f.w.Holdings[i]
		b := f.w.Bundle(h.Bundle)
		if b == nil || !moment.Within(f.at, h.From, h.Until) {
			continue
		}
		partner := ""
		if p := f.s.Match(h.Party).Partner; p != nil {
			partner = p.ID
		}
		if !b.For(partner) {
			f.add("bundle_held_outside", one(h.Party.String(), "bundle:"+b.ID), []Number{{"parties", 1}},
				"%s holds the bundle %s, which is not for people of %s.", h.Party, b.Name, h.Party.Domain())
		}
	}
}

// opensNothing looks for partners whose people may ask for a bundle, and to
// whom it would open nothing. Somebody typical from there is supposed to hold
// it, and everything is asked.
func (f *finder) opensNothing(b *world.Bundle) {
	for _, id := range b.Partners {
		k := slices.IndexFunc(f.w.Partners, func(p world.Partner) bool { return p.ID == id })
		if k < 0 || len(f.w.Partners[k].Domains) == 0 {
			continue
		}
		p := &f.w.Partners[k]
		a, err := check.TypicalOf(p.Domains[0].Domain)
		if err != nil {
			continue
		}
		if _, closed, err := check.BundleOpens(f.s, b, a, f.at); err != nil || len(closed) < len(b.Gives) {
			continue
		}
		f.add("bundle_opens_nothing", one("bundle:"+b.ID, "partner:"+id), nil,
			"People of %s may ask for the bundle %s, and it would open nothing to them.", p.Name, b.Name)
	}
}

// covers reports whether one bundle gives everything that another gives, to all
// whom the other is for. The roles may be higher.
func covers(o, b *world.Bundle) bool {
	if b.Others && !o.Others {
		return false
	}
	for _, id := range b.Partners {
		if !o.Others && !slices.Contains(o.Partners, id) {
			return false
		}
	}
	for _, g := range b.Gives {
		if !slices.ContainsFunc(o.Gives, func(x world.Gift) bool { return x.Resource == g.Resource && x.Role >= g.Role }) {
			return false
		}
	}
	return true
}
