package worldfile

import (
	"fmt"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// AddPolicy adds an entry of policy, as a doc of its kind, to a world.
func AddPolicy(w *world.World, kind, id string, doc []byte) (err error) {
	switch kind {
	case "organisation":
		var x world.Organisation
		x, err = OrganisationOf(doc)
		w.Organisation = &x
	case "settings":
		var x world.Settings
		x, err = SettingsOf(doc)
		w.Settings = &x
	case "rule":
		r, ok := catalogue.RuleByName(id)
		if !ok {
			return fmt.Errorf("the database sets a rule %q that the catalogue does not hold", id)
		}
		var x world.RuleSetting
		x, err = RuleOf(doc, r)
		w.Rules = append(w.Rules, x)
	case "partner":
		var x world.Partner
		x, err = PartnerOf(doc)
		w.Partners = append(w.Partners, x)
	case "bar":
		var x world.Bar
		x, err = BarOf(doc)
		w.Barred = append(w.Barred, x)
	case "personal":
		var x world.Entry
		x, err = EntryOf(doc)
		w.Personal = append(w.Personal, x)
	case "exception":
		var x world.Exception
		x, err = ExceptionOf(doc)
		w.Exceptions = append(w.Exceptions, x)
	case "bundle":
		var x world.Bundle
		x, err = BundleOf(doc)
		w.Bundles = append(w.Bundles, x)
	case "expectation":
		var x world.Expectation
		x, err = ExpectationOf(doc)
		w.Expectations = append(w.Expectations, x)
	default:
		err = fmt.Errorf("the database holds policy of the unknown kind %q", kind)
	}
	if err != nil {
		return fmt.Errorf("%s %s: %w", kind, id, err)
	}
	return nil
}

// PolicyDocs calls add for every entry of the policy of a world, with its kind, id
// and doc. Stances, which are no policy, are left out.
func PolicyDocs(w *world.World, add func(kind, id string, doc []byte)) {
	if w.Organisation != nil {
		add("organisation", "ours", OrganisationDoc(w.Organisation))
	}
	if w.Settings != nil {
		add("settings", "ours", SettingsDoc(w.Settings))
	}
	for _, x := range w.Rules {
		add("rule", x.Rule.String(), RuleDoc(x))
	}
	for i := range w.Partners {
		p := w.Partners[i]
		p.Stance = nil
		add("partner", p.ID, PartnerDoc(&p))
	}
	for i := range w.Barred {
		add("bar", w.Barred[i].Key(), BarDoc(&w.Barred[i]))
	}
	for i := range w.Personal {
		add("personal", w.Personal[i].Domain.String(), EntryDoc(&w.Personal[i]))
	}
	for i := range w.Exceptions {
		add("exception", w.Exceptions[i].ID, ExceptionDoc(&w.Exceptions[i]))
	}
	for i := range w.Bundles {
		add("bundle", w.Bundles[i].ID, BundleDoc(&w.Bundles[i]))
	}
	for i := range w.Expectations {
		add("expectation", w.Expectations[i].ID, ExpectationDoc(&w.Expectations[i]))
	}
}
