package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// problemType is a stable type of problem details (RFC 9457 §3.1.1).
type problemType struct {
	name   string
	status int
	title  string
}

// The types of problem. Their names are part of the contract.
var (
	problemInvalid   = problemType{"invalid", 400, "The request is not valid"}
	problemWrongUse  = problemType{"wrong-use", 400, "The question makes no sense"}
	problemFile      = problemType{"file", 422, "The file is refused"}
	problemSignIn    = problemType{"sign-in", 401, "Sign in first"}
	problemDenied    = problemType{"denied", 401, "Name or password is wrong"}
	problemCode      = problemType{"one-time-code", 401, "A one-time code is asked for"}
	problemPasskey   = problemType{"passkey", 401, "A passkey is asked for"}
	problemFresh     = problemType{"fresh-sign-in", 403, "Prove once more that it is you"}
	problemFactor    = problemType{"second-factor", 403, "Set up a second factor first"}
	problemForbidden = problemType{"forbidden", 403, "This is not for your role"}
	problemCSRF      = problemType{"csrf", 403, "The request did not come from the console"}
	problemNotFound  = problemType{"not-found", 404, "Not found"}
	problemMethod    = problemType{"method", 405, "This cannot be done here"}
	problemConflict  = problemType{"conflict", 409, "It is there already, or in the way"}
	problemSecond    = problemType{"second-person", 409, "Somebody else must confirm"}
	problemBreaks    = problemType{"breaks", 409, "It breaks what is expected"}
	problemStale     = problemType{"stale", 412, "It was changed meanwhile"}
	problemLarge     = problemType{"too-large", 413, "The request is too large"}
	problemMedia     = problemType{"media-type", 415, "This kind of content is not taken"}
	problemOften     = problemType{"too-often", 429, "Too many tries"}
	problemHouse     = problemType{"house-sign-in", 409, "The organisation's own sign-in does not answer"}
	problemInternal  = problemType{"internal", 500, "Something went wrong on our side"}
	problemAway      = problemType{"away", 503, "The database cannot be reached"}
	problemReadOnly  = problemType{"read-only", 503, "The database takes no changes"}
	problemFull      = problemType{"full", 503, "The database has no room left"}
	problemCrowded   = problemType{"connections", 503, "The database takes no more connections"}
	problemCut       = problemType{"interrupted", 503, "The database ended what it was asked"}
	problemDone      = problemType{"done", 503, "It was done, and cannot be shown yet"}
	problemUnknown   = problemType{"unknown", 503, "It is not known whether it was done"}
	problemBehind    = problemType{"behind", 503, "What other services change is not heard of"}
	problemBusy      = problemType{"busy", 503, "Too many changes at once"}
	problemStopping  = problemType{"stopping", 503, "The service is stopping"}
)

// TypeURI is where a problem's type begins.
const TypeURI = "https://wexillum.example/problems/"

func (t problemType) with(detail string) contract.Problem {
	p := contract.Problem{Type: TypeURI + t.name, Title: t.title, Status: t.status}
	if detail != "" {
		p.Detail = &detail
	}
	return p
}

func writeProblem(w http.ResponseWriter, p contract.Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Cache-Control", "no-store")
	if p.Status == http.StatusServiceUnavailable && w.Header().Get("Retry-After") == "" {
		w.Header().Set("Retry-After", "5")
	}
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

// problemOf finds the problem that an error is.
func problemOf(err error) contract.Problem {
	var wrong *engine.WrongUse
	var invalid *service.Invalid
	var breaks *service.Breaking
	var file worldfile.Errors
	var large *http.MaxBytesError
	var refused *service.Refused
	var unwritable *worldfile.Unwritable
	switch {
	case errors.As(err, &unwritable):
		return problemInvalid.with("not written: " + unwritable.Error())
	case errors.As(err, &refused):
		return problemConflict.with(refused.Reason)
	case errors.As(err, &wrong):
		p := problemWrongUse.with(wrong.Error())
		p.Field, p.Value = &wrong.Field, &wrong.Value
		return p
	case errors.As(err, &invalid):
		p := problemInvalid.with(invalid.Error())
		p.Field, p.Value = &invalid.Field, &invalid.Value
		return p
	case errors.As(err, &file):
		detail := "nothing was changed"
		if len(file) > 0 && file[0].File != "" {
			detail = file[0].File + ": " + detail
		}
		p := problemFile.with(detail)
		list := []contract.FileError{}
		for _, e := range file {
			list = append(list, contract.FileError{Line: e.Line, Column: e.Col, Message: e.Msg})
		}
		p.Errors = &list
		return p
	case errors.Is(err, service.ErrTooMany):
		return problemOften.with("wait and try again")
	case errors.Is(err, service.ErrPasskey):
		return problemPasskey.with("your role has to have a second factor, and yours is a passkey: sign in with it in the console, or set up one-time codes there, too")
	case errors.Is(err, service.ErrFactor):
		return problemCode.with("the password is right; send a one-time code, or a recovery code, as code")
	case errors.Is(err, service.ErrDenied):
		return problemDenied.with("")
	case errors.Is(err, service.ErrNotFound):
		return problemNotFound.with(after(err, service.ErrNotFound))
	case store.NoSuchName(err):
		return problemNotFound.with("what is named has letters that no id holds")
	case errors.As(err, &breaks):
		_, named, _ := strings.Cut(err.Error(), ": ")
		return problemBreaks.with(named + "; to publish it all the same, say why in despite (--despite)")
	case errors.Is(err, service.ErrSecond):
		return problemSecond.with(err.Error())
	case errors.Is(err, service.ErrConflict):
		return problemConflict.with(after(err, service.ErrConflict))
	case errors.Is(err, service.ErrStale):
		detail := "read it again and repeat the change"
		if _, more, ok := strings.Cut(err.Error(), service.ErrStale.Error()+": "); ok {
			detail = more
		}
		return problemStale.with(detail)
	case errors.Is(err, errForbidden):
		return problemForbidden.with(after(err, errForbidden))
	case errors.As(err, &large):
		return problemLarge.with(err.Error())
	}
	switch {
	case errors.Is(err, service.ErrDone):
		return problemDone.with("the database went away after it was written; look in a moment")
	case errors.Is(err, store.ErrUnknown):
		return problemUnknown.with("the database went away in the middle; look whether it is there before you send it again")
	case errors.Is(err, store.ErrBusy):
		return problemBusy.with("nothing was changed; send it again in some seconds")
	case errors.Is(err, context.Canceled), errors.Is(err, http.ErrServerClosed):
		return problemStopping.with("nothing was changed; send it again in a moment")
	}
	switch store.TroubleOf(err) {
	case store.Away:
		return problemAway.with(
			"it is tried again; what is known goes on being answered. Look at the database server and the network between",
		)
	case store.ReadOnly:
		return problemReadOnly.with("nothing was changed; make the database server writable, or name the one that is")
	case store.Full:
		return problemFull.with("nothing was changed; make room on the disk of the database server")
	case store.Crowded:
		return problemCrowded.with("nothing was changed; raise max_connections of the database server, or end what holds them")
	case store.Interrupted:
		return problemCut.with("nothing was changed; send it again")
	}
	return problemInternal.with("")
}

// after returns what an error says behind the kind of error that it is: the title says that.
func after(err, kind error) string { return strings.TrimPrefix(err.Error(), kind.Error()+": ") }
