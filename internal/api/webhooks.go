package api

import (
	"context"
	"slices"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/event"
	"wexillum.example/internal/service"
)

func webhookOut(v *service.WebhookView) contract.Webhook {
	out := contract.Webhook{
		Id: v.ID, Name: v.Name, Address: v.Address, Topics: []contract.EventTopic{}, Key: some(v.Key), Paused: v.Paused,
		State: contract.WebhookStateTold, Told: int64(v.Told), Waits: int64(v.Waits), Count: int64(v.Count),
		Sent: momentOr(v.Sent), Problem: some(v.Problem), Next: momentOr(v.Next), Partner: some(v.Partner),
	}
	for _, t := range v.Topics {
		out.Topics = append(out.Topics, contract.EventTopic(t))
	}
	switch {
	case v.Paused:
		out.State = contract.WebhookStatePaused
	case v.Problem != "":
		out.State = contract.WebhookStateFailing
	case v.Waits > 0:
		out.State = contract.WebhookStateBehind
	}
	return out
}

func topicsOf(list *[]contract.EventTopic) (out []string) {
	if list != nil {
		for _, t := range *list {
			out = append(out, string(t))
		}
	}
	return out
}

// webhook returns one receiver as it stands.
func (s *server) webhook(ctx context.Context, id string) (contract.Webhook, error) {
	list, err := s.Service.WebhookViews(ctx)
	if err != nil {
		return contract.Webhook{}, err
	}
	i := slices.IndexFunc(list, func(v service.WebhookView) bool { return v.ID == id })
	if i < 0 {
		return contract.Webhook{}, service.ErrNotFound
	}
	return webhookOut(&list[i]), nil
}

func (s *server) ListWebhooks(ctx context.Context, _ apigen.ListWebhooksRequestObject) (apigen.ListWebhooksResponseObject, error) {
	list, err := s.Service.WebhookViews(ctx)
	out := apigen.ListWebhooks200JSONResponse{Webhooks: []contract.Webhook{}}
	for i := range list {
		out.Webhooks = append(out.Webhooks, webhookOut(&list[i]))
	}
	for _, t := range event.Topics {
		out.Topics = append(out.Topics, struct {
			Says  string              `json:"says"`
			Topic contract.EventTopic `json:"topic"`
		}{t.Says, contract.EventTopic(t.Name)})
	}
	return out, err
}

func (s *server) AddWebhook(ctx context.Context, r apigen.AddWebhookRequestObject) (apigen.AddWebhookResponseObject, error) {
	b := r.Body
	x := service.Webhook{ID: b.Id, Name: b.Name, Address: b.Address, Topics: topicsOf(b.Topics), Key: opt(b.Key), Partner: opt(b.Partner)}
	if err := s.Service.AddWebhook(ctx, whoIs(ctx), cause(b.Why), x); err != nil {
		return nil, err
	}
	out, err := s.webhook(ctx, b.Id)
	return apigen.AddWebhook201JSONResponse(out), err
}

func (s *server) ChangeWebhook(ctx context.Context, r apigen.ChangeWebhookRequestObject) (apigen.ChangeWebhookResponseObject, error) {
	b := r.Body
	err := s.Service.ChangeWebhook(ctx, whoIs(ctx), cause(b.Why), r.Id, func(x *service.Webhook) {
		if b.Name != nil {
			x.Name = *b.Name
		}
		if b.Address != nil {
			x.Address = *b.Address
		}
		if b.Topics != nil {
			x.Topics = topicsOf(b.Topics)
		}
		if b.Key.IsSpecified() { // null takes it away
			x.Key, _ = b.Key.Get()
		}
		if b.Paused != nil {
			x.Paused = *b.Paused
		}
	})
	if err != nil {
		return nil, err
	}
	out, err := s.webhook(ctx, r.Id)
	return apigen.ChangeWebhook200JSONResponse(out), err
}

func (s *server) EndWebhook(ctx context.Context, r apigen.EndWebhookRequestObject) (apigen.EndWebhookResponseObject, error) {
	return apigen.EndWebhook204Response{}, s.Service.EndWebhook(ctx, whoIs(ctx), cause(r.Params.Why), r.Id)
}

func (s *server) TryWebhook(ctx context.Context, r apigen.TryWebhookRequestObject) (apigen.TryWebhookResponseObject, error) {
	return apigen.TryWebhook204Response{}, s.Service.TryWebhook(ctx, r.Id)
}
