package service

import (
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	verdicts "wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// judge asks the rules about what is new: a forwarder that would not leave, and a role that somebody
// may not be given.
func (c *placeChange) judge(p *parsed) error {
	if c.undoing {
		return nil
	}
	for x, f := range p.forwarders {
		if x.was != nil || c.now.Match(f.To).Own {
			continue
		}
		if c.who.Own() {
			f.SetBy = "person"
		} else if f.SetBy == "" {
			f.SetBy = "administrator"
		}
		x.now = worldfile.ForwarderDoc(f)
		e, err := c.now.Explain(&engine.Question{
			Subject:   engine.Who{Kind: engine.ByPerson, ID: f.Mailbox},
			Action:    forwardAction(),
			Resource:  world.Resource{Kind: catalogue.Mailbox, ID: f.Mailbox},
			At:        c.at,
			Address:   f.To,
			DropsCopy: !f.KeepCopy,
		})
		if err != nil {
			c.refuse(x.line, "to", f.To.String(), err.Error())
			continue
		}
		if !e.Yes() {
			c.lines[x.line].Ask = &engine.Question{
				Subject:  engine.Who{Kind: engine.ByPerson, ID: f.Mailbox},
				Action:   forwardAction(),
				Resource: world.Resource{Kind: catalogue.Mailbox, ID: f.Mailbox},
				Address:  f.To,
			}
			c.refuse(x.line, "to", f.To.String(), "mail may not be forwarded there: "+causesText(e.Deciding().Refusals()))
		}
	}
	for x, one := range p.persons {
		if a := one.Address; x.line >= 0 && !a.IsZero() && !c.now.Match(a).Own {
			c.lines[x.line].Note = a.String() + " is at no domain of ours."
		}
	}
	for x, g := range p.grants {
		if x.was == nil && g.ToMany() && x.line >= 0 && c.lines[x.line].Do == DoAdd {
			c.asAWhole(x, g)
		}
		if x.was != nil || g.Address.IsZero() || x.line < 0 || c.lines[x.line].Do != DoAdd {
			continue
		}
		if g.Sponsor == "" && c.who.Person != "" && c.now.Has("person", c.who.Person) {
			g.Sponsor = c.who.Person
			x.now = worldfile.GrantDoc(g)
		}
		into := g.Resource
		if into.Kind.IsItem() {
			into = world.Resource{Kind: catalogue.Space, ID: c.now.SpaceOf(into.ID)}
		}
		if !c.now.Has("space", into.ID) { // it is made in the same change: nobody can be asked about it yet
			continue
		}
		k, err := verdicts.New(c.now.Snapshot, verdicts.Options{Keep: true, Into: into, At: c.at})
		if err != nil {
			return err
		}
		if l := k.Check(0, g.Address.String()); l.Verdict == verdicts.No {
			if by := c.now.Inviter(into); by != "" {
				act, _ := catalogue.ActionByName("directory.invite")
				c.lines[x.line].Ask = &engine.Question{
					Subject:  engine.Who{Kind: engine.ByPerson, ID: by},
					Action:   act.ID,
					Resource: into,
					Address:  g.Address,
				}
			}
			c.refuse(x.line, "party", g.Address.String(), "they may not be let in there: "+causesText(l.Causes))
		} else if l.Verdict == verdicts.Own || l.Verdict == verdicts.Malformed {
			c.refuse(x.line, "party", g.Address.String(), l.Reason)
		}
	}
	return nil
}

// asAWhole refuses to let a partner or a domain into a space as a whole where none of theirs would get
// in with their home account.
func (c *placeChange) asAWhole(x *entry, g *world.Grant) {
	if !c.now.Has("space", g.Resource.ID) { // it is made in the same change
		return
	}
	if !g.Domain.IsZero() && c.now.Match(addr.Newcomer(g.Domain)).Own {
		c.refuse(x.line, "party", g.Party(), "it is a domain of ours; our own people are members of a space")
		return
	}
	domains := []addr.Domain{g.Domain}
	if g.Partner != "" {
		domains = nil
		if partner, err := c.now.Partner(g.Partner); err == nil {
			for _, d := range partner.Domains {
				domains = append(domains, d.Domain)
			}
		}
	}
	e := c.now.Aside()
	e.SetGrants(g.Party(), []world.Grant{*g})
	with := e.Done()
	act, _ := catalogue.ActionByName("spaces.enter")
	var why []engine.Cause
	for _, d := range domains {
		q := engine.Question{Subject: engine.Who{Address: addr.Newcomer(d)}, Action: act.ID, Resource: g.Resource, At: max(c.at, g.From)}
		answer, err := with.Explain(&q)
		if err != nil {
			c.refuse(x.line, "party", g.Party(), err.Error())
			return
		}
		if answer.Yes() {
			return
		}
		if why == nil {
			why = answer.Deciding().Refusals()
		}
	}
	if len(domains) == 0 {
		c.refuse(x.line, "party", g.Party(), "no domain of theirs is known")
		return
	}
	next := ""
	for i := range why {
		if n := why[i].Next(); n != "" && next == "" {
			next = ". " + strings.TrimSuffix(n, ".")
		}
	}
	c.refuse(x.line, "party", g.Party(), "none of them would get in with their home account: "+causesText(why)+next)
}

func forwardAction() catalogue.ActionID {
	a, _ := catalogue.ActionByName("mail.forward")
	return a.ID
}

func causesText(list []engine.Cause) string {
	var out []string
	for i := range list {
		out = append(out, strings.TrimSuffix(list[i].Text(), "."))
	}
	return strings.Join(out, "; ")
}

// prepare reads what the entries are to be and whether that can be; nil where a line is refused.
func (c *placeChange) prepare() (*parsed, error) {
	if c.refused() > 0 {
		return nil, nil
	}
	p, err := c.read()
	if err != nil || p == nil {
		return nil, err
	}
	if err := c.keys(p); err != nil {
		return nil, err
	}
	return p, c.judge(p)
}
