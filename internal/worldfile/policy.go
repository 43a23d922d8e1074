package worldfile

import (
	"fmt"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// AddPolicy adds an entry of policy, as a doc of its kind, to a world. One that cannot be read
// adds nothing.
func AddPolicy(w *world.World, kind, id string, doc []byte) (err error) {
	switch kind {
	case "organisation":
		var x world.Organisation
		if x, err = OrganisationOf(doc); err == nil {
			w.Organisation = &x
		}
	case "settings":
		var x world.Settings
		if x, err = SettingsOf(doc); err == nil {
			w.Settings = &x
		}
	case "rule":
		r, ok := catalogue.RuleByName(id)
		if !ok {
			return fmt.Errorf("the database sets a rule %q that the catalogue does not hold", id)
		}
		err = added(&w.Rules, func(d Doc) (world.RuleSetting, error) { return RuleOf(d, r) }, doc)
	case "partner":
		err = added(&w.Partners, PartnerOf, doc)
	case "bar":
		err = added(&w.Barred, BarOf, doc)
	case "personal":
		err = added(&w.Personal, EntryOf, doc)
	case "exception":
		err = added(&w.Exceptions, ExceptionOf, doc)
	case "bundle":
		err = added(&w.Bundles, BundleOf, doc)
	case "expectation":
		err = added(&w.Expectations, ExpectationOf, doc)
	default:
		err = fmt.Errorf("the database holds policy of the unknown kind %q", kind)
	}
	if err != nil {
		return fmt.Errorf("%s %s: %w", kind, id, err)
	}
	return nil
}

func added[T any](list *[]T, parse func(Doc) (T, error), doc []byte) error {
	x, err := parse(doc)
	if err == nil {
		*list = append(*list, x)
	}
	return err
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
