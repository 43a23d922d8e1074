package api

import (
	"context"
	"encoding/json"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/pattern"
	"wexillum.example/internal/service"
)

// Begun says whether the installation has its first administrator.
func (s *server) Begun(ctx context.Context, _ apigen.BegunRequestObject) (apigen.BegunResponseObject, error) {
	begun, err := s.Service.Begun(ctx)
	return apigen.Begun200JSONResponse{Begun: begun}, err
}

// Begin makes the first administrator.
func (s *server) Begin(ctx context.Context, r apigen.BeginRequestObject) (apigen.BeginResponseObject, error) {
	if err := s.doorOften(ctx, "begin"); err != nil {
		return nil, err
	}
	return apigen.Begin204Response{}, s.Service.Begin(ctx, r.Body.Key, r.Body.Name, r.Body.Password)
}

// Started tells how far the installation has been set up.
func (s *server) Started(ctx context.Context, _ apigen.StartedRequestObject) (apigen.StartedResponseObject, error) {
	x, err := s.Service.Started(ctx)
	if err != nil {
		return nil, err
	}
	out := apigen.Started200JSONResponse{
		Organisation: some(x.Organisation),
		People:       x.People,
		Guests:       x.Guests,
		Spaces:       x.Spaces,
		Partners:     x.Partners,
		Posture:      some(x.Posture),
	}
	out.Domains = []struct {
		Domain string `json:"domain"`
		Guests int    `json:"guests"`
	}{}
	for _, d := range x.Domains {
		out.Domains = append(out.Domains, struct {
			Domain string `json:"domain"`
			Guests int    `json:"guests"`
		}{d.Domain, d.Guests})
	}
	waits, err := s.Service.Waiting(ctx, s.Service.Now())
	if err != nil {
		return nil, err
	}
	out.DatesWait, out.Mail = waits.Records, s.Service.MailWaiting()
	return out, nil
}

// Postures lists postures, and what each would change.
func (s *server) Postures(ctx context.Context, _ apigen.PosturesRequestObject) (apigen.PosturesResponseObject, error) {
	st := s.state(ctx)
	out := apigen.Postures200JSONResponse{Postures: []contract.Posture{}}
	for i := range pattern.Postures() {
		p := &pattern.Postures()[i]
		changes := st.PostureRules(p)
		x := contract.Posture{Name: p.Name, Title: p.Title, Says: p.Says, Now: len(changes) == 0}
		x.Rules = []struct {
			Can      bool   `json:"can"`
			Rule     string `json:"rule"`
			Sentence string `json:"sentence"`
			Title    string `json:"title"`
			Value    string `json:"value"`
			Was      string `json:"was"`
		}{}
		for _, c := range changes {
			x.Rules = append(x.Rules, struct {
				Can      bool   `json:"can"`
				Rule     string `json:"rule"`
				Sentence string `json:"sentence"`
				Title    string `json:"title"`
				Value    string `json:"value"`
				Was      string `json:"was"`
			}{c.Can, c.Rule.Name, c.Rule.Sentence(c.Set), c.Rule.Title, c.Rule.Scale.Format(c.Set), c.Rule.Scale.Format(c.Was)})
		}
		out.Postures = append(out.Postures, x)
	}
	return out, nil
}

// DraftPosture makes a draft of a posture.
func (s *server) DraftPosture(ctx context.Context, r apigen.DraftPostureRequestObject) (apigen.DraftPostureResponseObject, error) {
	id, err := s.Service.DraftPosture(ctx, whoIs(ctx).Name, r.Name)
	return apigen.DraftPosture200JSONResponse{Id: id}, err
}

func (s *server) settingsOut(ctx context.Context) (out contract.AllSettings, err error) {
	doc := s.state(ctx).SettingsDoc()
	err = json.Unmarshal(doc, &out)
	out.Etag = service.Etag(doc)
	return out, err
}

// Settings returns what the policy says of the organisation and of the service.
func (s *server) Settings(ctx context.Context, _ apigen.SettingsRequestObject) (apigen.SettingsResponseObject, error) {
	x, err := s.settingsOut(ctx)
	return apigen.Settings200JSONResponse{Body: x, Headers: apigen.Settings200ResponseHeaders{ETag: &x.Etag}}, err
}

// TermsVersions lists the versions of the terms of use, the newest first.
func (s *server) TermsVersions(ctx context.Context, _ apigen.TermsVersionsRequestObject) (apigen.TermsVersionsResponseObject, error) {
	list, err := s.Service.TermsVersions(ctx)
	out := apigen.TermsVersions200JSONResponse{Versions: []contract.TermsVersion{}}
	for i := range list {
		v := &list[i]
		x := contract.TermsVersion{Text: v.Text, TextPt: v.TextPt, Again: v.Again, Accepted: v.Accepted, Owed: v.Owed}
		if !v.From.IsZero() {
			x.From, x.Who, x.Why, x.Revision = ptr(moment.Of(v.From).String()), some(v.Who), some(v.Why), ptr(int64(v.Revision))
		}
		out.Versions = append(out.Versions, x)
	}
	return out, err
}

// ChangeSettings changes the settings that are named.
func (s *server) ChangeSettings(ctx context.Context, r apigen.ChangeSettingsRequestObject) (apigen.ChangeSettingsResponseObject, error) {
	why := cause(r.Body.Why)
	r.Body.Why = nil
	patch, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	if err := s.Service.PatchSettings(ctx, whoIs(ctx).Name, why, patch, opt(r.Params.IfMatch)); err != nil {
		return nil, err
	}
	x, err := s.settingsOut(ctx)
	return apigen.ChangeSettings200JSONResponse{Body: x, Headers: apigen.ChangeSettings200ResponseHeaders{ETag: &x.Etag}}, err
}
