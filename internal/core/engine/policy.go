package engine

import (
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// A policy made ready to be asked: names turned into indexes, settings into
// rows of values, the table of domains into one entry for each domain that the
// inventory knows. A decision then reads a few rows and looks nothing up by
// name.
//
// It is compiled anew for every change, which costs some milliseconds with
// three hundred partners and a thousand exceptions. What the inventory learns
// between two policies (a new domain) is added by extend.

// policy is the compiled form of what is changed by publishing. It is small
// enough to be compiled anew for every change. Most of it is by index of the
// inventory, so that a decision looks nothing up by name.
type policy struct {
	source    *world.World
	zone      *time.Location
	limit     row
	fallback  row // the default that counts
	said      row // the default as it was said
	saidHeld  [catalogue.NumRules]bool
	partners  []partnerRow // by index of inventory.partners
	rest      []partnerRest
	rows      []row // of partners
	alone     row   // the effective values where no partner and no layer below speaks
	byName    map[string]domainEntry
	bars      map[string]int32 // by address: index in source.Barred
	domains   []domainFacts    // by index of inventory.domains
	except    []exception
	byPerson  map[uint32][]int32
	byGroup   [][]int32 // by group
	anyPeople bool
	named     []bool // by person: an exception names the person itself
	concerned []bool // by person: an exception names the person or one of their groups

	termsSince moment.Moment // terms accepted before count no longer from then on; zero where they never changed
}

// domainEntry is what the table of model §2 says of one name.
type domainEntry struct {
	bar     int32 // index in source.Barred + 1, 0 for none
	barSub  bool
	kind    entryKind
	sub     bool
	partner uint32
}

// entryKind says what a name in the table of domains is.
type entryKind uint8

// What a name in the table of domains may be. One that nobody entered is
// unlisted, which is the zero value.
const (
	unlisted entryKind = iota
	ownDomain
	partnerDomain
	personalDomain
)

// domainFacts is the outcome of the longest match for one domain. It is found
// once for each domain that the inventory knows.
type domainFacts struct {
	bar     int32 // index in source.Barred + 1, 0 for none
	kind    entryKind
	partner uint32 // with partnerDomain
}

// stanceFacts is what the partner's side says of one key, with the moment at
// which it is too old to count. features narrows an admission; 0 stands for
// all.
type stanceFacts struct {
	says     world.Says
	features uint8 // bits by Feature; 0: all
	expires  moment.Moment
	source   string
}

// partnerRow is what most decisions ask of a partner; partnerRest what few do.
// They are kept apart, and equal rows of values are shared, so that those of
// many partners stay in the cache.
type partnerRow struct {
	exists   bool
	standing world.Standing
	opened   [catalogue.NumKeys]world.Opening
	still    uint16 // bits of the keys for whose levels it is let through, whatever its standing
	rules    uint32 // in policy.rows
	alone    uint32 // in policy.rows: the effective values where no layer below the partner speaks
}

// partnerRest is what few decisions ask of a partner: since when it is ended,
// what its own side says, what it says and does not count.
type partnerRest struct {
	endedAt moment.Moment
	stance  [catalogue.NumKeys]stanceFacts
	held    row
	source  *world.Partner
}

// exception is a world.Exception by indexes. rules are what counts, held what
// is said and does not.
type exception struct {
	source      *world.Exception
	from, until moment.Moment
	parties     []partyRef // nil: towards everybody
	rules, held row
}

// emptyRow returns a row in which nothing is said.
func emptyRow() row {
	var r row
	for i := range r {
		r[i] = catalogue.Unset
	}
	return r
}

// rowsOf makes rows of settings: of those that count and of those that are held
// back.
func rowsOf(settings []world.Setting) (counts, held row) {
	counts, held = emptyRow(), emptyRow()
	for _, s := range settings {
		if s.Held {
			held[s.Rule] = s.Value
		} else {
			counts[s.Rule] = s.Value
		}
	}
	return
}

// compile makes a policy of the policy part of w. v is the inventory it is
// compiled for; names that the policy holds and the inventory does not are
// taken in. It reads w and keeps it, so nobody may change w afterwards.
func compile(v *inventory, tok token, w *world.World) *policy {
	p := &policy{source: w, zone: time.UTC, byName: map[string]domainEntry{}, bars: map[string]int32{}, byPerson: map[uint32][]int32{}}
	p.termsSince = w.SettingsNow().TermsSince
	stanceDays := world.StartStanceDays
	if w.Settings != nil {
		stanceDays = w.Settings.StanceDays
	}
	for i, r := range catalogue.Rules() {
		p.limit[i], p.said[i], p.fallback[i] = r.Limit, r.Default, r.Default
	}
	// A default that is held back counts as what it is held at, or as the
	// tightest there is.
	for _, s := range w.Rules {
		r := s.Rule.Get()
		if s.Limit != catalogue.Unset {
			p.limit[s.Rule] = s.Limit
		}
		if s.Default != catalogue.Unset {
			p.said[s.Rule], p.fallback[s.Rule], p.saidHeld[s.Rule] = s.Default, s.Default, s.Held
			if s.Held {
				p.fallback[s.Rule] = s.Counts
				if s.Counts == catalogue.Unset {
					p.fallback[s.Rule] = r.Scale.Tightest()
				}
			}
		}
	}
	silent := emptyRow()
	p.alone = p.effective(&silent)
	if w.Organisation != nil {
		if w.Organisation.Zone != nil {
			p.zone = w.Organisation.Zone
		}
		for _, d := range w.Organisation.Domains {
			p.enter(d, ownDomain, none)
		}
	}
	for _, d := range w.Personal {
		p.enter(d, personalDomain, none)
	}
	seen := map[row]uint32{}
	// Three hundred partners share a dozen rows, which stay in the cache.
	shared := func(r row) uint32 {
		i, ok := seen[r]
		if !ok {
			i = uint32(len(p.rows))
			seen[r], p.rows = i, append(p.rows, r)
		}
		return i
	}
	for i := range w.Partners {
		src := &w.Partners[i]
		k := v.partners.add(tok, &v.text, src.ID)
		for uint32(len(p.partners)) <= k {
			p.partners, p.rest = append(p.partners, partnerRow{}), append(p.rest, partnerRest{})
		}
		pr, rest := partnerRow{
			exists:   true,
			standing: src.Standing,
			opened:   src.Opened,
		}, partnerRest{
			endedAt: src.StandingSince,
			source:  src,
		}
		for _, key := range src.Still {
			pr.still |= 1 << key
		}
		var rules row
		rules, rest.held = rowsOf(src.Rules)
		pr.rules, pr.alone = shared(rules), shared(p.effective(&rules))
		for _, s := range src.Stance {
			f := stanceFacts{says: s.Says, expires: moment.Never, source: s.Source}
			for _, x := range s.Features {
				f.features |= 1 << x
			}
			// A bit that no feature has: the set is then not "all".
			if s.Features != nil && f.features == 0 {
				f.features = 1 << 7 // an empty list admits nothing
			}
			if s.AsOf.IsSet() && stanceDays != catalogue.NoLimit {
				f.expires = moment.EndOfDays(moment.DayOf(s.AsOf, p.zone), int(stanceDays), p.zone)
			}
			f.expires = min(f.expires, s.Until)
			rest.stance[s.Key] = f
		}
		p.partners[k], p.rest[k] = pr, rest
		for _, d := range src.Domains {
			p.enter(d, partnerDomain, k)
		}
	}
	for i := range w.Barred {
		b := &w.Barred[i]
		if !b.Address.IsZero() {
			p.bars[b.Address.String()] = int32(i)
			continue
		}
		e := p.byName[b.Domain.String()]
		e.bar, e.barSub = int32(i)+1, b.Subdomains
		p.byName[b.Domain.String()] = e
	}
	// People and groups that are not there are passed over; whoever comes later
	// is compiled anew.
	for i := range w.Exceptions {
		src := &w.Exceptions[i]
		x := exception{source: src, from: src.From, until: src.Until}
		x.rules, x.held = rowsOf(src.Rules)
		if src.Parties != nil {
			x.parties = make([]partyRef, 0, len(src.Parties))
			for _, r := range src.Parties {
				if r.Address.IsNewcomer() { // kept before it was refused: nobody is meant
					continue
				}
				x.parties = append(x.parties, v.lookupRef(tok, r))
			}
		}
		p.except = append(p.except, x)
		for _, id := range src.People {
			if k := v.personIDs.find(v.text, id); k != none {
				p.byPerson[k] = append(p.byPerson[k], int32(i))
				for uint32(len(p.named)) <= k {
					p.named = append(p.named, false)
				}
				p.named[k] = true
			}
		}
		for _, id := range src.Groups {
			if k := v.groupIDs.find(v.text, id); k != none {
				for uint32(len(p.byGroup)) <= k {
					p.byGroup = append(p.byGroup, nil)
				}
				p.byGroup[k] = append(p.byGroup[k], int32(i))
			}
		}
	}
	// concerned is what spares nearly every decision from looking at
	// exceptions.
	p.anyPeople = len(p.except) > 0
	if p.anyPeople {
		p.concerned = make([]bool, v.people.n)
		copy(p.concerned, p.named)
		for i := uint32(0); i < v.people.n && len(p.byGroup) > 0; i++ {
			l := v.people.at(i).groups
			for _, g := range v.lists[l.off : l.off+l.n] {
				if g < uint32(len(p.byGroup)) && p.byGroup[g] != nil {
					p.concerned[i] = true
				}
			}
		}
	}
	return p.extend(v)
}

// effective joins what one layer says to defaults and limits. said is what a
// partner says, or nothing. Layers below the partner are joined when a question
// is asked.
func (p *policy) effective(said *row) (out row) {
	for r := range out {
		v := said[r]
		if v == catalogue.Unset || ruleLayers[r]&catalogue.AtPartner == 0 {
			v = p.fallback[r]
		}
		if ruleShape[r] != catalogue.Choice {
			v = join(ruleShape[r], v, p.limit[r])
		}
		out[r] = v
	}
	return
}

// lookupRef turns a reference of an exception into indexes. Names the inventory
// does not hold yet are taken in, so that they match once it does.
func (v *inventory) lookupRef(tok token, r world.PartyRef) partyRef {
	switch {
	case r.Partner != "":
		return partyRef{ofPartner, v.partners.add(tok, &v.text, r.Partner)}
	case !r.Domain.IsZero():
		return partyRef{ofDomain, v.domains.add(tok, &v.text, r.Domain.String())}
	case r.Group != "":
		return partyRef{ofGroup, v.groupIDs.find(v.text, r.Group)}
	}
	i := v.addresses.add(tok, &v.text, r.Address.String())
	v.addParty(tok, i)
	if p := v.parties.at(i); p.domain == none {
		v.atDomain(tok, i, v.domains.add(tok, &v.text, r.Address.Domain().String()))
	}
	return partyRef{ofAddress, i}
}

// enter puts a domain into the table; a bar on the same name stays beside it.
// The first entry of a name counts: ours before private ones before partners'.
// That two partners name one domain is refused where policies are checked.
func (p *policy) enter(d world.Entry, kind entryKind, partner uint32) {
	e := p.byName[d.Domain.String()]
	if e.kind == unlisted {
		e.kind, e.sub, e.partner = kind, d.Subdomains, partner
	}
	p.byName[d.Domain.String()] = e
}

// extend resolves the domains that the inventory has learnt since. It returns a
// policy that shares all else.
func (p *policy) extend(v *inventory) *policy {
	if len(p.domains) == len(v.domains.refs) {
		return p
	}
	q := *p
	q.domains = make([]domainFacts, len(v.domains.refs))
	for i := copy(q.domains, p.domains); i < len(q.domains); i++ {
		q.domains[i] = p.match(v.domains.text(v.text, uint32(i)))
	}
	return &q
}

// agreed reports whether terms that were accepted at a moment count at another:
// where they changed in between, they are to be accepted again.
func (p *policy) agreed(terms, at moment.Moment) bool {
	return terms != moment.Never && terms <= at && !(p.termsSince != 0 && p.termsSince <= at && terms < p.termsSince)
}

// match finds the longest match for a domain (model §2): one look-up a label,
// from the whole name to its last. Bars that lie further up count where they
// take subdomains along and nothing nearer is barred. An entry that does not
// take subdomains along counts for its own name alone.
func (p *policy) match(name string) domainFacts {
	f := domainFacts{partner: none}
	whole := true
	for {
		if e, ok := p.byName[name]; ok {
			if e.bar != 0 && f.bar == 0 && (whole || e.barSub) {
				f.bar = e.bar
			}
			if e.kind != unlisted && (whole || e.sub) {
				f.kind, f.partner = e.kind, e.partner
				return f
			}
		}
		whole = false
		i := indexByte(name, '.')
		if i < 0 {
			return f
		}
		name = name[i+1:]
	}
}

// indexByte returns where a byte is first; -1 for nowhere.
func indexByte(s string, c byte) int {
	for i := 0; i < len(s); i++ {
		if s[i] == c {
			return i
		}
	}
	return -1
}

// Match is what the table of domains says of an address (model §2).
type Match struct {
	Address addr.Address
	Own     bool           // at a domain of ours
	Bar     *world.Bar     // the bar that decides, or nil
	Partner *world.Partner // the partner it would belong to, barred or not
	Private bool           // at a personal domain
	Entry   string         // the entry that decides, as it is written
	Sub     bool           // that entry takes its subdomains along
	Others  []string       // entries further up that also match and do not decide
}

// Match says which entry decides for a, and why. It is for showing: a decision
// takes the same from tables.
func (s *Snapshot) Match(a addr.Address) Match {
	p := s.pol
	m := Match{Address: a}
	f := p.match(a.Domain().String())
	switch f.kind {
	case ownDomain:
		m.Own = true
	case personalDomain:
		m.Private = true
	case partnerDomain:
		m.Partner = p.rest[f.partner].source
	}
	if f.bar > 0 {
		m.Bar = &p.source.Barred[f.bar-1]
	}
	if i, ok := p.bars[a.String()]; ok {
		m.Bar = &p.source.Barred[i]
		m.Entry = a.String()
	}
	whole := true
	for d, ok := a.Domain(), true; ok; d, ok = d.Parent() {
		if e, found := p.byName[d.String()]; found {
			barred, entered := e.bar != 0 && (whole || e.barSub), e.kind != unlisted && (whole || e.sub)
			if barred || entered {
				if m.Entry == "" {
					m.Entry, m.Sub = d.String(), barred && e.barSub || entered && !barred && e.sub
				} else {
					m.Others = append(m.Others, d.String())
				}
			}
		}
		whole = false
	}
	return m
}

// Zone returns the organisation's time zone.
func (s *Snapshot) Zone() *time.Location { return s.pol.zone }

// Policy returns the policy the snapshot was made from. Callers must not change
// it.
func (s *Snapshot) Policy() *world.World { return s.pol.source }
