package others

import (
	"context"
	"flag"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/casbin/casbin/v2"
	"github.com/casbin/casbin/v2/model"
	"github.com/cedar-policy/cedar-go"
	"github.com/cedar-policy/cedar-go/types"
	"github.com/open-policy-agent/opa/v1/ast"
	"github.com/open-policy-agent/opa/v1/rego"
	"github.com/open-policy-agent/opa/v1/storage/inmem"

	"wexillum.example/internal/core/catalogue"
)

// asks prepares questions about facts, and answers them by their places. Preparing is not measured: each gets them in the
// form that it takes at once.
type asks func(*facts, []question) func(int) bool

// library is one of those compared.
type library struct {
	name string
	// begin reads facts, and is measured from there; it may keep what it is given, which nobody else has.
	begin func(*facts) (asks, error)
}

var guests = flag.Int("guests", 10_000, "guests, ten grants each")

var needs = map[catalogue.Role]string{catalogue.View: "view", catalogue.Contribute: "contribute"}

// casbinModel is role-based access control over what each thing needs, with attributes of who asks and of what is asked about.
// What was given is its role manager's: somebody has the role thing#view.
const casbinModel = `
[request_definition]
r = sub, obj, act
[policy_definition]
p = act, role, files, item
[role_definition]
g = _, _
[policy_effect]
e = some(where (p.eft == allow))
[matchers]
m = r.act == p.act && r.sub.Active && (p.files == "no" || r.sub.Files) && ` +
	`(r.obj.Guests && !r.obj.Private && g(r.sub.Name, r.obj.Space + p.role) || p.item == "yes" && g(r.sub.Name, r.obj.Name + p.role))
`

type casbinSubject struct {
	Name          string
	Active, Files bool
}

type casbinObject struct {
	Name, Space     string
	Guests, Private bool
}

func casbins(f *facts) (asks, error) {
	m, err := model.NewModelFromString(casbinModel)
	if err != nil {
		return nil, err
	}
	e, err := casbin.NewEnforcer(m)
	if err != nil {
		return nil, err
	}
	for _, d := range deeds {
		yesNo := map[bool]string{true: "yes", false: "no"}
		rule := []string{d.name, "#" + needs[d.role], yesNo[d.file], yesNo[d.item]}
		if _, err := e.AddPolicy(rule); err != nil {
			return nil, err
		}
	}
	subjects, objects := make([]casbinSubject, len(f.guests)), make([]casbinObject, len(f.things))
	for i := range f.things {
		t := &f.things[i]
		s := &f.things[t.space]
		objects[i] = casbinObject{t.name, s.name, s.guests, t.private}
	}
	rules := make([][]string, 0, 1000)
	put := func() error {
		_, err := e.AddGroupingPolicies(rules)
		rules = rules[:0]
		return err
	}
	for i := range f.guests {
		g := &f.guests[i]
		p := &f.partners[g.partner]
		subjects[i] = casbinSubject{g.name, g.active && p.active, p.files}
		for _, h := range g.grants {
			rules = append(rules, []string{g.name, f.things[h.thing].name + "#view"})
			if h.role == catalogue.Contribute {
				rules = append(rules, []string{g.name, f.things[h.thing].name + "#contribute"})
			}
		}
		if len(rules) >= 900 || i == len(f.guests)-1 {
			if err := put(); err != nil {
				return nil, err
			}
		}
	}
	return func(f *facts, q []question) func(int) bool {
		return func(i int) bool {
			yes, err := e.Enforce(subjects[q[i].guest], objects[q[i].thing], deeds[q[i].deed].name)
			if err != nil {
				panic(err)
			}
			return yes
		}
	}, nil
}

// cedarPolicy is one policy for each action. Whoever may view something, and whoever may contribute, are groups; who may
// contribute may view.
func cedarPolicy(d *deed) string {
	group := map[catalogue.Role]string{catalogue.View: "viewers", catalogue.Contribute: "contributors"}[d.role]
	held := "resource.space.guests && !resource.private && principal in resource.space." + group
	if d.item {
		held = "(" + held + ") || principal in resource." + group
	}
	files := ""
	if d.file {
		files = "principal.partner.files && "
	}
	return fmt.Sprintf(`permit (principal, action == Action::%q, resource) when {
		principal.active && principal.partner.active && %s(%s) };`, d.name, files, held)
}

func cedars(f *facts) (asks, error) {
	var text strings.Builder
	for i := range deeds {
		text.WriteString(cedarPolicy(&deeds[i]))
	}
	ps, err := cedar.NewPolicySetFromBytes("policy.cedar", []byte(text.String()))
	if err != nil {
		return nil, err
	}
	all := types.EntityMap{}
	put := func(id types.EntityUID, attrs types.RecordMap, parents ...types.EntityUID) {
		all[id] = types.Entity{UID: id, Attributes: types.NewRecord(attrs), Parents: types.NewEntityUIDSet(parents...)}
	}
	uid := func(kind, id string) types.EntityUID {
		return types.NewEntityUID(types.EntityType(kind), types.String(id))
	}
	for i := range f.partners {
		p := &f.partners[i]
		put(uid("Partner", p.name), types.RecordMap{"active": types.Boolean(p.active), "files": types.Boolean(p.files)})
	}
	for i := range f.things {
		t := &f.things[i]
		view, contribute := uid("Role", t.name+"#view"), uid("Role", t.name+"#contribute")
		put(view, nil)
		put(contribute, nil, view)
		put(uid("Thing", t.name), types.RecordMap{"private": types.Boolean(t.private), "guests": types.Boolean(t.guests),
			"space": uid("Thing", f.things[t.space].name), "viewers": view, "contributors": contribute})
	}
	for i := range f.guests {
		g := &f.guests[i]
		held := make([]types.EntityUID, 0, len(g.grants))
		for _, h := range g.grants {
			held = append(held, uid("Role", f.things[h.thing].name+"#"+needs[h.role]))
		}
		put(uid("Guest", g.name), types.RecordMap{"active": types.Boolean(g.active), "partner": uid("Partner", f.partners[g.partner].name)},
			held...)
	}
	return func(f *facts, q []question) func(int) bool {
		reqs := make([]cedar.Request, len(q))
		for i, x := range q {
			reqs[i] = cedar.Request{Principal: uid("Guest", f.guests[x.guest].name), Action: uid("Action", deeds[x.deed].name),
				Resource: uid("Thing", f.things[x.thing].name)}
		}
		return func(i int) bool {
			d, _ := cedar.Authorize(ps, all, reqs[i])
			return d == cedar.Allow
		}
	}, nil
}

const regoPolicy = `package access

default allow := false

needs := {"spaces.enter": 1, "chat.post": 2, "spaces.edit_page": 2, "files.open": 1, "files.edit": 2}

allow if {
	guest := data.guests[input.who]
	guest.active
	partner := data.partners[guest.partner]
	partner.active
	thing := data.things[input.what]
	open_for(partner)
	held(thing)
}

open_for(_) if not startswith(input.action, "files.")

open_for(partner) if {
	startswith(input.action, "files.")
	partner.files
}

held(thing) if {
	data.things[thing.space].guests
	not thing.private
	data.grants[input.who][thing.space] >= needs[input.action]
}

held(_) if {
	startswith(input.action, "files.")
	data.grants[input.who][input.what] >= needs[input.action]
}
`

func opas(f *facts) (asks, error) {
	people, partners, things, grants := map[string]any{}, map[string]any{}, map[string]any{}, map[string]any{}
	for i := range f.partners {
		p := &f.partners[i]
		partners[p.name] = map[string]any{"active": p.active, "files": p.files}
	}
	for i := range f.things {
		t := &f.things[i]
		things[t.name] = map[string]any{"space": f.things[t.space].name, "private": t.private, "guests": t.guests}
	}
	for i := range f.guests {
		g := &f.guests[i]
		people[g.name] = map[string]any{"active": g.active, "partner": f.partners[g.partner].name}
		held := map[string]any{}
		for _, h := range g.grants {
			held[f.things[h.thing].name] = map[catalogue.Role]int{catalogue.View: 1, catalogue.Contribute: 2}[h.role]
		}
		grants[g.name] = held
	}
	// Values are kept as the evaluator reads them, which is its fastest way.
	st := inmem.NewFromObjectWithOpts(map[string]any{"guests": people, "partners": partners, "things": things, "grants": grants},
		inmem.OptRoundTripOnWrite(false), inmem.OptReturnASTValuesOnRead(true))
	ctx := context.Background()
	pq, err := rego.New(rego.Query("data.access.allow"), rego.Module("access.rego", regoPolicy), rego.Store(st)).PrepareForEval(ctx)
	if err != nil {
		return nil, err
	}
	return func(f *facts, q []question) func(int) bool {
		in := make([]ast.Value, len(q))
		for i, x := range q {
			in[i] = ast.MustInterfaceToValue(map[string]any{"who": f.guests[x.guest].name, "action": deeds[x.deed].name,
				"what": f.things[x.thing].name})
		}
		return func(i int) bool {
			rs, err := pq.Eval(ctx, rego.EvalParsedInput(in[i]))
			if err != nil {
				panic(err)
			}
			return rs.Allowed()
		}
	}, nil
}

// loaded is one of those compared, with what loading it took.
type loaded struct {
	ask    func(int) bool
	took   time.Duration
	memory uint64 // bytes that stay after a collection
}

func heap() uint64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

func load(b *testing.B, f *facts, q []question, l library) loaded {
	b.Helper()
	before := heap()
	own := f.copied()
	start := time.Now()
	prepare, err := l.begin(own)
	if err != nil {
		b.Fatal(err)
	}
	x := loaded{took: time.Since(start)}
	own = nil // what nobody kept of it is gone
	if after := heap(); after > before {
		x.memory = after - before
	}
	x.ask = prepare(f, q)
	return x
}

const rounds = 5

// each is how long a question takes, asked for at least a third of a second.
func each(x *loaded, n int) time.Duration {
	start, k := time.Now(), 0
	for time.Since(start) < 300*time.Millisecond {
		for range 100 {
			x.ask(k % n)
			k++
		}
	}
	return time.Since(start) / time.Duration(k)
}

// BenchmarkOthers asks the engine and each of the libraries the same, in rounds that alternate, and prints how many times as
// long each takes as the engine, how many times the memory, and how many times the time until it is ready. One library is
// there at a time. It fails where an answer differs.
func BenchmarkOthers(b *testing.B) {
	f := made(*guests)
	q := f.questions(1 << 16)
	us := load(b, f, q, library{"ours", ours})
	fmt.Printf("%d guests, %d grants, %d questions; ours: %.1f MB, ready in %s, from its snapshot file in %s\n", *guests, 10**guests, len(q),
		float64(us.memory)/1e6, us.took.Round(time.Millisecond), fromFile(b).Round(time.Millisecond/10))
	yes := 0
	for i := range q {
		if us.ask(i) {
			yes++
		}
	}
	fmt.Printf("%d%% are a yes\n", 100*yes/len(q))
	for _, other := range []library{{"casbin", casbins}, {"cedar-go", cedars}, {"OPA", opas}} {
		them := load(b, f, q, other)
		for i := range min(len(q), 20_000) {
			if got, want := them.ask(i), us.ask(i); got != want {
				b.Fatalf("%s answers %t, the engine %t: %s %s %s", other.name, got, want, f.guests[q[i].guest].name, deeds[q[i].deed].name,
					f.things[q[i].thing].name)
			}
		}
		var ratios []float64
		var mine, theirs []time.Duration
		for range rounds {
			m, t := each(&us, len(q)), each(&them, len(q))
			mine, theirs = append(mine, m), append(theirs, t)
			ratios = append(ratios, float64(t)/float64(m))
		}
		slices.Sort(ratios)
		slices.Sort(mine)
		slices.Sort(theirs)
		fmt.Printf("%-9s %6.1fx as long (%.1f to %.1f; %s beside %s), %5.1fx the memory (%.0f MB), %5.1fx as long to load (%s)\n", other.name,
			ratios[rounds/2], ratios[0], ratios[rounds-1], theirs[rounds/2].Round(10), mine[rounds/2].Round(10),
			float64(them.memory)/float64(us.memory), float64(them.memory)/1e6, float64(them.took)/float64(us.took),
			them.took.Round(time.Millisecond))
	}
}
