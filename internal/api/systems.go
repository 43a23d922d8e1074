package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/operations"
	"wexillum.example/internal/service"
)

// foundHeader has a question asked of what the systems hold: most for the loosest reading, least for
// the tightest.
const foundHeader = "Wexillum-Found"

// asFound takes a question to what systems hold, where it says so. Only what asks can.
func (s *server) asFound(ctx context.Context, w http.ResponseWriter, r *http.Request, op *operations.Operation,
	who service.Who) (context.Context, error) {
	of := r.Header.Get(foundHeader)
	if of == "" && safe(r.Method) {
		of = r.URL.Query().Get("found")
	}
	if of == "" {
		return ctx, nil
	}
	switch {
	case of != "most" && of != "least":
		return ctx, &service.Invalid{Field: foundHeader, Value: of, Reason: "write most or least"}
	case who.SeesFound() != nil:
		return ctx, who.SeesFound()
	case service.DraftIn(ctx) != "":
		return ctx, fmt.Errorf("%w: a draft is not in any system yet; ask without %s", service.ErrConflict, draftHeader)
	case !safe(r.Method) && op.Draft != operations.Ask:
		return ctx, fmt.Errorf("%w: this changes something; %s is for questions", service.ErrConflict, foundHeader)
	}
	if _, err := s.Service.StateFound(ctx, of == "most"); err != nil {
		return ctx, err
	}
	not, oldest, err := s.Service.NotLookedAt(ctx)
	if err != nil {
		return ctx, err
	}
	if oldest != moment.Never {
		w.Header().Set(foundHeader+"-Read", oldest.String())
	}
	w.Header().Set(foundHeader+"-Not-Looked-At", strings.Join(not, ", "))
	return service.AsFound(ctx, of == "most"), nil
}

// momentOr writes a moment; nothing where there is none.
func momentOr(m moment.Moment) *string {
	if m == 0 || !m.IsSet() {
		return nil
	}
	return ptr(m.String())
}

func counted(c service.Counted) contract.Counted {
	return contract.Counted{Granted: c.Granted, Wide: c.Wide, Newcomers: c.Newcomers}
}

func systemOut(v *service.SystemView) contract.SystemView {
	x := &v.System
	d := x.Speaks()
	out := contract.SystemView{
		Id: x.ID, Name: x.Name, Dialect: x.Dialect, Title: d.Title, Services: d.Services, Address: x.Address, Key: x.Key,
		Mode: contract.SystemViewMode(x.Mode), Minutes: x.Minutes, PutBack: x.PutBack, Nightly: x.Nightly, Tries: d.Tries,
		Problem: some(v.Work.Problem), Tried: momentOr(v.Work.Tried),
		Brake: x.BrakeNow(), Braked: v.Work.Braked, Empty: some(v.Empty()), Differ: v.Differ, Drift: v.Drift, Open: v.Open, Write: v.ToWrite(),
		Digest: v.Digest,
		Beyond: counted(v.Beyond), Short: counted(v.Short), Unsure: counted(v.Unsure), Settings: []contract.SystemSetting{},
	}
	if v.Many {
		out.Many = ptr(true)
	}
	if v.Reading != nil {
		out.Read, out.Since = momentOr(v.Reading.Seen), momentOr(v.Reading.At)
	}
	for i := range v.Settings {
		s := &v.Settings[i]
		y := contract.SystemSetting{Path: s.Path, Title: s.Title, Rule: s.Rule, Meant: s.Meant, There: s.There, ByHand: s.ByHand}
		if r, ok := catalogue.RuleByName(s.Rule); ok {
			y.RuleTitle = r.Title
		}
		if s.Set {
			y.Set, y.MeantOwn, y.FoundOwn = ptr(true), some(s.MeantOwn), some(s.FoundOwn)
		}
		if s.There {
			y.Found, y.Turn = ptr(s.Found), ptr(contract.SystemSettingTurn(s.Turn))
		}
		if c := s.Step; c != nil {
			y.State, y.Cause, y.Was, y.Problem = ptr(contract.SystemSettingState(c.State)), some(c.Cause), some(c.Was), some(c.Problem)
			y.Sent, y.Counts, y.Confirmed = momentOr(moment.Moment(c.Sent)), momentOr(moment.Moment(c.Counts)), momentOr(moment.Moment(c.Confirmed))
			if f := c.Drift; f != nil {
				y.Drift = &contract.SettingDrift{
					Accepted: momentOr(moment.Moment(f.Accepted)), After: moment.Moment(f.After).String(), By: some(f.By), Found: f.Found,
					Since: moment.Moment(f.Since).String(), Why: some(f.Why),
				}
			}
		}
		out.Settings = append(out.Settings, y)
	}
	out.Extra, out.Unread, out.Kinds = []contract.ExtraSetting{}, []contract.UnreadSetting{}, []contract.SystemKind{}
	out.Asks = []contract.SystemAsks{}
	for _, a := range v.Asks {
		rule, _ := catalogue.RuleByName(a.Rule)
		out.Asks = append(out.Asks, contract.SystemAsks{Rule: a.Rule, RuleTitle: rule.Title, On: a.On, Open: some(a.Open)})
	}
	for _, e := range v.Extra {
		out.Extra = append(out.Extra, contract.ExtraSetting(e))
	}
	for _, u := range v.Unread {
		out.Unread = append(out.Unread, contract.UnreadSetting(u))
	}
	for _, k := range v.Kinds {
		out.Kinds = append(out.Kinds, contract.SystemKind{
			Kind: contract.SystemKindKind(k.Kind), Name: k.Name, Title: k.Title, Says: some(k.Says), Source: k.Source, CanBeSource: k.CanBeSource,
			Found:   k.Found,
			Unknown: k.Unknown, Accepted: k.Accepted, Confirmed: k.Confirmed, Open: k.Open, Differ: k.Differ, Drift: k.Drift,
		})
	}
	return out
}

// Systems lists the systems, and where each differs from what is meant.
func (s *server) Systems(ctx context.Context, _ apigen.SystemsRequestObject) (apigen.SystemsResponseObject, error) {
	list, err := s.Service.Systems(ctx)
	if err != nil {
		return nil, err
	}
	out := apigen.Systems200JSONResponse{Systems: []contract.SystemView{}, NotLookedAt: []string{}}
	for i := range list {
		v, err := s.Service.SystemView(ctx, list[i].ID)
		if err != nil {
			return nil, err
		}
		out.Systems = append(out.Systems, systemOut(v))
	}
	not, _, err := s.Service.NotLookedAt(ctx)
	out.NotLookedAt = append(out.NotLookedAt, not...)
	return out, err
}

// Dialects lists the kinds of system that there are connectors for.
func (s *server) Dialects(ctx context.Context, _ apigen.DialectsRequestObject) (apigen.DialectsResponseObject, error) {
	out := apigen.Dialects200JSONResponse{Dialects: []contract.Dialect{}}
	add := func(name string, d *native.Dialect, described *bool) {
		x := contract.Dialect{Name: name, Described: described, Title: d.Title, Services: append([]string{}, d.Services...),
			Lines: []contract.DialectLine{}}
		for _, l := range d.Describe() {
			y := contract.DialectLine{Rule: l.Rule, Layer: l.Layer, Part: l.Part, Fidelity: contract.DialectLineFidelity(l.Fidelity),
				Path: some(l.Path), Says: some(l.Says)}
			if l.Fidelity != native.None && l.Span >= 0 {
				y.Seconds = ptr(int(l.Span.Seconds()))
			}
			x.Lines = append(x.Lines, y)
		}
		out.Dialects = append(out.Dialects, x)
	}
	for _, d := range native.Dialects() {
		add(d.Name, d, nil)
	}
	add(native.Described, &native.Dialect{Title: "Any other, with a program beside it that says what it can hold"}, nil)
	list, err := s.Service.Systems(ctx)
	for i := range list { // what each of them said, by the name of the system
		if x := &list[i]; x.Described != nil {
			add(x.ID, x.Described, ptr(true))
		}
	}
	return out, err
}

// AddSystem adds a system; as a preview it is read once and nothing is kept.
func (s *server) AddSystem(ctx context.Context, r apigen.AddSystemRequestObject) (apigen.AddSystemResponseObject, error) {
	b := r.Body
	x := service.System{ID: b.Id, Name: b.Name, Dialect: b.Dialect, Address: b.Address, Key: b.Key, Mode: service.ModeLook,
		PutBack: service.PutBackNo, Minutes: 5}
	if b.Minutes != nil {
		x.Minutes = *b.Minutes
	}
	var v *service.SystemView
	var err error
	if r.Params.Preview != nil && *r.Params.Preview {
		v, err = s.Service.TestSystem(ctx, x)
	} else {
		v, err = s.Service.AddSystem(ctx, whoIs(ctx), cause(b.Why), x)
	}
	if err != nil {
		return nil, err
	}
	return apigen.AddSystem200JSONResponse(systemOut(v)), nil
}

// System returns a system, setting by setting.
func (s *server) System(ctx context.Context, r apigen.SystemRequestObject) (apigen.SystemResponseObject, error) {
	v, err := s.Service.SystemView(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.System200JSONResponse(systemOut(v)), nil
}

// ChangeSystem changes a system, or what is done to it.
func (s *server) ChangeSystem(ctx context.Context, r apigen.ChangeSystemRequestObject) (apigen.ChangeSystemResponseObject, error) {
	b := r.Body
	p := service.SystemPatch{Name: b.Name, Address: b.Address, Key: b.Key, Minutes: b.Minutes, Nightly: b.Nightly, Sources: b.Sources,
		Digest: opt(b.Digest), Describe: b.Describe != nil && *b.Describe}
	if b.Brake != nil {
		p.Brake = ptr(service.BrakeOf(*b.Brake))
	}
	if b.Mode != nil {
		p.Mode = ptr(service.Mode(*b.Mode))
	}
	if b.PutBack != nil {
		p.PutBack = ptr(string(*b.PutBack))
	}
	v, err := s.Service.ChangeSystem(ctx, whoIs(ctx), b.Why, r.Id, p)
	if err != nil {
		return nil, err
	}
	return apigen.ChangeSystem200JSONResponse(systemOut(v)), nil
}

// EndSystem takes a system away.
func (s *server) EndSystem(ctx context.Context, r apigen.EndSystemRequestObject) (apigen.EndSystemResponseObject, error) {
	return apigen.EndSystem204Response{}, s.Service.EndSystem(ctx, whoIs(ctx), opt(r.Params.Why), r.Id)
}

// ReadSystem reads a system now.
func (s *server) ReadSystem(ctx context.Context, r apigen.ReadSystemRequestObject) (apigen.ReadSystemResponseObject, error) {
	v, err := s.Service.ReadSystem(ctx, whoIs(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.ReadSystem200JSONResponse(systemOut(v)), nil
}

// DecideSetting decides about a setting of a system.
func (s *server) DecideSetting(ctx context.Context, r apigen.DecideSettingRequestObject) (apigen.DecideSettingResponseObject, error) {
	v, err := s.Service.DecideSetting(ctx, whoIs(ctx), r.Id, r.Path,
		service.Decided{Do: string(r.Body.Do), Until: opt(r.Body.Until), Why: r.Body.Why})
	if err != nil {
		return nil, err
	}
	return apigen.DecideSetting200JSONResponse(systemOut(v)), nil
}

// TakeOver makes a draft of what a system holds.
func (s *server) TakeOver(ctx context.Context, r apigen.TakeOverRequestObject) (apigen.TakeOverResponseObject, error) {
	id, left, err := s.Service.TakeOver(ctx, whoIs(ctx), r.Id, opt(r.Body.Setting))
	if err != nil {
		return nil, err
	}
	return apigen.TakeOver200JSONResponse{Draft: id, Left: append([]string{}, left...)}, nil
}

func trialOut(x *service.Trial) contract.Trial {
	out := contract.Trial{
		Id: x.ID, At: x.At, By: x.By, Revision: int64(x.Revision), Read: some(x.Read), System: some(x.System), Subject: x.Asked.Subject,
		Action:   x.Asked.Action,
		Resource: x.Asked.Resource, Address: some(x.Asked.Address), From: some(x.From), Meant: contract.TrialMeant(x.Meant),
		Outcome: contract.TrialOutcome(x.Outcome), Says: some(x.Says),
	}
	if x.Found != "" {
		out.Found = ptr(contract.TrialFound(x.Found))
	}
	if x.As != "" {
		out.As = ptr(contract.TrialAs(x.As))
	}
	if x.Theirs {
		out.Theirs = ptr(true)
	}
	if x.Making {
		out.Making = ptr(true)
	}
	if x.Contradiction {
		out.Contradiction = ptr(true)
	}
	if x.Milliseconds > 0 {
		out.Milliseconds = ptr(x.Milliseconds)
	}
	return out
}

// Trials lists trials that were made.
func (s *server) Trials(ctx context.Context, r apigen.TrialsRequestObject) (apigen.TrialsResponseObject, error) {
	limit := 50
	if r.Params.Limit != nil {
		limit = *r.Params.Limit
	}
	list, err := s.Service.Trials(ctx, limit)
	out := apigen.Trials200JSONResponse{Trials: []contract.Trial{}}
	for i := range list {
		out.Trials = append(out.Trials, trialOut(&list[i]))
	}
	return out, err
}

// Try attempts what a question is about.
func (s *server) Try(ctx context.Context, r apigen.TryRequestObject) (apigen.TryResponseObject, error) {
	st := s.state(ctx)
	q, err := answer.Question(r.Body, st.Snapshot, s.Service.Now(), names(ctx))
	if err != nil {
		return nil, err
	}
	asked := service.Asked{Subject: q.Subject.String(), Action: q.Action.String(), Resource: q.Resource.String(), Presenter: q.Presenter}
	if !q.Address.IsZero() {
		asked.Address = q.Address.String()
	}
	x, err := s.Service.Try(ctx, whoIs(ctx), asked)
	if err != nil {
		return nil, err
	}
	return apigen.Try200JSONResponse(trialOut(x)), nil
}

// TrySystem tries everything that can be tried at a system.
func (s *server) TrySystem(ctx context.Context, r apigen.TrySystemRequestObject) (apigen.TrySystemResponseObject, error) {
	x, err := s.Service.TryPlan(ctx, whoIs(ctx), r.Id, opt(r.Body.Partner))
	if err != nil {
		return nil, err
	}
	out := apigen.TrySystem200JSONResponse{Trials: []contract.Trial{}, StandFor: x.StandFor, Contradictions: x.Contradictions}
	for i := range x.Trials {
		out.Trials = append(out.Trials, trialOut(&x.Trials[i]))
	}
	if r.Body.Record != nil && *r.Body.Record {
		e, err := s.Service.RecordTrials(ctx, whoIs(ctx), r.Id, opt(r.Body.Partner))
		if err != nil {
			return nil, err
		}
		out.Evidence = &e.ID
	}
	return out, nil
}

func thingOut(t native.Thing) *contract.Thing {
	if t == nil {
		return nil
	}
	return ptr(contract.Thing(t))
}

// SystemRecords lists what a system keeps of one kind of our inventory.
func (s *server) SystemRecords(ctx context.Context, r apigen.SystemRecordsRequestObject) (apigen.SystemRecordsResponseObject, error) {
	q := service.RecordQuery{Kind: r.Params.Kind, Text: opt(r.Params.Q), After: opt(r.Params.Cursor), Limit: 50}
	if r.Params.Limit != nil {
		q.Limit = *r.Params.Limit
	}
	if r.Params.State != nil {
		q.State = string(*r.Params.State)
	}
	list, next, err := s.Service.RecordLines(ctx, r.Id, q)
	if err != nil {
		return nil, err
	}
	out := apigen.SystemRecords200JSONResponse{Records: []contract.SystemRecord{}, Next: some(next)}
	for i := range list {
		l := &list[i]
		x := contract.SystemRecord{
			Key: l.Key(), Ours: some(l.Ours), Native: some(l.Native), State: contract.SystemRecordState(l.State), Meant: thingOut(l.Meant),
			Found: thingOut(l.Found),
			By:    some(l.By), Since: momentOr(l.Since), Accepted: momentOr(l.Accepted), Problem: some(cmp.Or(l.Problem, l.Unread)),
			Cause: some(l.Cause),
		}
		if l.Turn != "" {
			x.Turn = ptr(contract.SystemRecordTurn(l.Turn))
		}
		out.Records = append(out.Records, x)
	}
	return out, nil
}

// DecideRecords decides about what a system keeps otherwise than meant.
func (s *server) DecideRecords(ctx context.Context, r apigen.DecideRecordsRequestObject) (apigen.DecideRecordsResponseObject, error) {
	b := r.Body
	d := service.RecordDecision{
		Do: string(b.Do), Sponsor: opt(b.Sponsor), Purpose: opt(b.Purpose), Until: opt(b.Until), Why: cause(b.Why),
		All: b.All != nil && *b.All, Confirm: b.Confirm != nil && *b.Confirm, Previews: r.Params.Preview != nil && *r.Params.Preview,
	}
	if b.Kind != nil {
		d.Kind = string(*b.Kind)
	}
	if b.Keys != nil {
		d.Keys = *b.Keys
	}
	x, err := s.Service.DecideRecords(ctx, whoIs(ctx), r.Id, d)
	if err != nil {
		return nil, err
	}
	out := contract.RecordsDecided{Done: x.Done, Refused: x.Refused, Waits: x.Waits}
	for _, l := range x.Lines {
		out.Lines = append(out.Lines, struct {
			Key    string                             `json:"key"`
			Result contract.RecordsDecidedLinesResult `json:"result"`
			Says   string                             `json:"says"`
		}{l.Key, contract.RecordsDecidedLinesResult(l.Result), l.Says})
	}
	if x.Weighed != nil {
		out.Weighed = ptr(weighedOut(x.Weighed))
	}
	return apigen.DecideRecords200JSONResponse(out), nil
}
