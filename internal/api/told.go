package api

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"mime"
	"net/http"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/event"
	"wexillum.example/internal/service"
)

// EventsPath is where partners push what happens to their people (RFC 8935).
const EventsPath = "/events"

// mostToken is how large a token is at most, in bytes.
const mostToken = 64 << 10

// takeEvent takes a token that a partner pushes: 202 says that it is kept.
func (s *server) takeEvent(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	refuse := func(status int, x *event.Refusal) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(x)
	}
	if !s.asks.allow(remote(r), s.Clock()) {
		w.Header().Set("Retry-After", "60")
		refuse(http.StatusTooManyRequests, &event.Refusal{Err: event.AccessDenied, Description: "too many at once; wait a minute"})
		return
	}
	if typ, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); typ != "application/"+event.Type {
		refuse(http.StatusBadRequest, &event.Refusal{Err: event.InvalidRequest, Description: "send one token as application/" + event.Type})
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostToken))
	if err != nil {
		refuse(http.StatusBadRequest, &event.Refusal{Err: event.InvalidRequest, Description: err.Error()})
		return
	}
	base := s.base(r)
	err = s.Service.TakeEvent(r.Context(), s.Fetcher, body, base, base+EventsPath)
	if no, ok := service.IsRefusal(err); ok {
		refuse(http.StatusBadRequest, no)
		return
	}
	if err != nil {
		p := problemOf(err)
		s.Log.ErrorContext(r.Context(), "an event of a partner is not kept", "error", err)
		writeProblem(w, p)
		return
	}
	w.WriteHeader(http.StatusAccepted)
}

func (s *server) ToldEvents(ctx context.Context, r apigen.ToldEventsRequestObject) (apigen.ToldEventsResponseObject, error) {
	limit := cmp.Or(orZero(r.Params.Limit), 50)
	list, err := s.Service.ToldEvents(ctx, r.Id, uint64(max(0, orZero(r.Params.Before))), limit)
	if err != nil {
		return nil, err
	}
	out := apigen.ToldEvents200JSONResponse{Events: []contract.ToldEvent{}, Url: s.base(requestOf(ctx)) + EventsPath}
	for i := range list {
		e := &list[i]
		out.Events = append(out.Events, contract.ToldEvent{N: int(e.N), Kind: contract.ToldEventKind(e.Kind), Address: some(e.Address),
			Happened: e.Happened.String(), Came: e.Came.String(), Result: contract.ToldEventResult(e.Result), Detail: some(e.Detail)})
	}
	if len(list) == limit {
		out.Next = ptr(int(list[limit-1].N))
	}
	return out, nil
}
