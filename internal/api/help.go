package api

import (
	"context"
	"fmt"
	"sync"

	"wexillum.example/docs"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/help"
	"wexillum.example/internal/service"
)

// book is read when somebody first looks into it.
var book = sync.OnceValues(func() (*help.Book, error) { return help.Read(docs.Files) })

// helpFound is how many places are shown.
const helpFound = 20

func (s *server) FindHelp(_ context.Context, r apigen.FindHelpRequestObject) (apigen.FindHelpResponseObject, error) {
	b, err := book()
	if err != nil {
		return nil, err
	}
	out := apigen.FindHelp200JSONResponse{}
	out.Found = []contract.HelpPlace{}
	for _, f := range b.Find(opt(r.Params.Q), helpFound) {
		out.Found = append(out.Found, contract.HelpPlace{Page: f.Page, PageTitle: f.PageTitle, Anchor: f.Anchor, Title: f.Title, Said: f.Said})
	}
	return out, nil
}

func (s *server) HelpPage(_ context.Context, r apigen.HelpPageRequestObject) (apigen.HelpPageResponseObject, error) {
	b, err := book()
	if err != nil {
		return nil, err
	}
	p := b.Page(r.Params.Name)
	if p == nil {
		return nil, fmt.Errorf("%w: there is no page %q", service.ErrNotFound, r.Params.Name)
	}
	out := apigen.HelpPage200JSONResponse{Page: p.Name, Title: p.Title, Html: p.HTML}
	out.Sections = []contract.HelpSection{}
	for _, x := range p.Sections {
		out.Sections = append(out.Sections, contract.HelpSection{Anchor: x.Anchor, Title: x.Title})
	}
	return out, nil
}
