package api

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"freshseal/contract"
	"freshseal/service"
	"freshseal/service/access"
	"freshseal/service/fleet"
	"freshseal/service/monitor"
	"freshseal/service/own"
	"freshseal/service/paging"
	"freshseal/service/people"
	"freshseal/service/problem"
	"freshseal/service/signing"

	"github.com/gofiber/fiber/v3"
)

const v1 = "/api/v1"

// route is one address of the API: what it takes, what it gives and how it is
// described. The OpenAPI document is made of this list, so that the two cannot
// differ.
type route struct {
	method, path, summary string
	status                int
	in, out               any // nil: nothing
	handler               func(*Server) fiber.Handler
	shown                 func(*Server, fiber.Ctx) (any, error) // of a GET: what it answers with
	open                  bool                                  // may be called without signing in
	quiet                 bool                                  // changes nothing that the audit log wants to know
	early                 bool                                  // may be called before a second factor is set up
	final                 bool                                  // cannot be taken back: needs a confirmation
	// that is needed; where none is said, viewers may look and operators change
	role  contract.Role
	media string // of the answer, when it is not JSON
}

// routes are all routes, room by room.
var routes = slices.Concat(ownRoutes, metricsRoutes, calendarRoutes, peopleRoutes, fleetRoutes, discoveryRoutes,
	aheadRoutes, reportRoutes, workRoutes, pinRoutes, tellRoutes, deskRoutes, ruleRoutes)

// needs returns the role that a call needs.
func (r route) needs() contract.Role {
	switch {
	case r.role != "":
		return r.role
	case r.method == "GET":
		return contract.Viewer
	}
	return contract.Operator
}

// guarded reports whether a change must name the revision that it is for.
func (r route) guarded() bool {
	_, must := r.in.(interface {
		revision() (problem.Revision, error)
	})
	return must
}

// by returns which role is needed.
func (r route) by(role contract.Role) route {
	r.role = role
	return r
}

// takesFile returns does for a body that holds a file.
func takesFile[In, Out any](path, summary string, f use[In, Out]) route {
	r := does("POST", path, summary, 200, f)
	r.handler = call(200, fileBody, f)
	return r
}

// quietly says that the audit log need not know.
func (r route) quietly() route {
	r.quiet = true
	return r
}

// beforeSetUp says that somebody who must set up a second factor may call it before.
func (r route) beforeSetUp() route {
	r.early = true
	return r
}

// forGood says that it cannot be taken back, so it needs a password or code that was given just now.
func (r route) forGood() route {
	r.final = true
	return r
}

// openly says that it may be called without signing in.
func (r route) openly() route {
	r.open = true
	return r
}

// use is a use case behind a route.
type use[In, Out any] func(ctx context.Context, s *service.Service, who people.Bearer, in In) (Out, error)

func looks[In, Out any](path, summary string, f use[In, Out]) route {
	var in In
	var out Out
	return route{method: "GET", path: v1 + path, summary: summary, status: 200, in: in, out: out,
		handler: call(200, 0, f),
		shown: func(s *Server, c fiber.Ctx) (any, error) {
			var in In
			if err := decode(c, &in, 0); err != nil {
				return nil, err
			}
			return f(c.Context(), s.service, bearer(c), in)
		}}
}

func does[In, Out any](method, path, summary string, status int, f use[In, Out]) route {
	var in In
	var out Out
	return route{method: method, path: v1 + path, summary: summary, status: status, in: in, out: out,
		handler: call(status, plainBody, f)}
}

// posts makes something new.
func posts[In, Out any](path, summary string, f use[In, Out]) route {
	return does("POST", path, summary, 201, f)
}

// begins long work; the answer says where to watch it.
func begins[In, Out any](path, summary string, f use[In, Out]) route {
	return does("POST", path, summary, 202, f)
}

// ends takes something away, or does something that has no answer.
func ends[In any](method, path, summary string, f func(ctx context.Context, s *service.Service, who people.Bearer,
	in In) error) route {
	r := does(method, path, summary, 204, func(ctx context.Context, s *service.Service, who people.Bearer,
		in In) (nothing, error) {
		return nothing{}, f(ctx, s, who, in)
	})
	r.out = nil
	return r
}

// The rooms of the service, for routes that hand their call on as it is.
func theAccess(s *service.Service) *access.Service         { return s.Access }
func theSites(s *service.Service) *access.Sites            { return s.Access.Sites }
func theRules(s *service.Service) *monitor.Policies        { return s.Monitor.Rules }
func theTrust(s *service.Service) *monitor.Trust           { return s.Monitor.Trust }
func theMonitor(s *service.Service) *monitor.Service       { return s.Monitor }
func theDiscoveries(s *service.Service) *fleet.Discoveries { return s.Fleet.Discoveries }
func theFleet(s *service.Service) *fleet.Service           { return s.Fleet }
func theSigning(s *service.Service) *signing.Service       { return s.Signing }
func theOwn(s *service.Service) *own.Service               { return s.Own }
func thePeople(s *service.Service) *people.Service         { return s.People }
func theTokens(s *service.Service) people.Tokens           { return s.People.Tokens }

// listing returns a list that takes nothing.
func listing[R, T any](path, summary string, room func(*service.Service) R,
	list func(R, context.Context) ([]T, error)) route {
	return looks(path, summary, func(ctx context.Context, s *service.Service, _ people.Bearer, _ nothing) (page[T],
		error) {
		items, err := list(room(s), ctx)
		return page[T]{Items: items}, err
	})
}

// showing shows one thing by its name.
func showing[R, T any](path, summary string, room func(*service.Service) R,
	show func(R, context.Context, string) (T, error)) route {
	return looks(path, summary, func(ctx context.Context, s *service.Service, _ people.Bearer, in byName) (T, error) {
		return show(room(s), ctx, in.Name)
	})
}

// removal takes something away by its name.
func removal[R any](path, summary string, room func(*service.Service) R,
	remove func(R, context.Context, string) error) route {
	return ends("DELETE", path, summary, func(ctx context.Context, s *service.Service, _ people.Bearer,
		in byName) error {
		return remove(room(s), ctx, in.Name)
	}).by(contract.Admin)
}

// page is a list or a part of one.
type page[T any] struct {
	Items []T    `json:"items" required:"true" nullable:"false"`
	Next  string `json:"next,omitempty" description:"cursor of the next page, where there is one"`
	Total *int   `json:"total,omitempty" description:"how many there are in all, where count=true asked for it"`
}

type (
	nothing struct{}
	byName  struct {
		Name string `path:"name" json:"-"`
	}
	byID struct {
		ID string `path:"id" json:"-"`
	}
	// paged is what every long list can be asked for.
	paged struct {
		Sort   string `query:"sort" json:"-" description:"the name of an order; each list has one of its own"`
		Desc   string `query:"desc" json:"-" enum:"true,false" description:"the other way round"`
		Limit  string `query:"limit" json:"-" description:"items a page, 1 to 1000"`
		Cursor string `query:"cursor" json:"-" description:"next of the page before"`
		Skip   string `query:"skip" json:"-" description:"items that are passed over from there on, up to 10 million"`
		Count  string `query:"count" json:"-" enum:"true,false" description:"say how many there are in all, too"`
	}
)

const mostSkipped = 10_000_000

func (p paged) page() (paging.Page, error) {
	out := paging.Page{Sort: p.Sort, Desc: p.Desc == "true", Cursor: p.Cursor}
	var err error
	if p.Skip != "" {
		if out.Skip, err = strconv.Atoi(p.Skip); err != nil || out.Skip < 0 || out.Skip > mostSkipped {
			return out, &problem.Error{Kind: problem.Invalid, What: "the list cannot begin there",
				Why:  fmt.Sprintf("%q is no number of items to pass over", p.Skip),
				Next: fmt.Sprintf("give a number up to %d", mostSkipped)}
		}
	}
	if p.Limit == "" {
		return out, nil
	}
	if out.Limit, err = strconv.Atoi(p.Limit); err != nil || out.Limit < 1 {
		return out, &problem.Error{Kind: problem.Invalid, What: "the list cannot be that long",
			Why: fmt.Sprintf("%q is no number of items", p.Limit), Next: "give a number from 1 to 1000"}
	}
	return out, nil
}

// pageOf reads a page of a list.
func pageOf[F, T any](ctx context.Context, p paged, filter F, list func(context.Context, F, paging.Page) ([]T, string,
	error), count func(context.Context, F) (int, error)) (page[T], error) {
	wanted, err := p.page()
	if err != nil {
		return page[T]{}, err
	}
	items, next, err := list(ctx, filter, wanted)
	out := page[T]{Items: items, Next: next}
	if err == nil && p.Count == "true" {
		var n int
		n, err = count(ctx, filter)
		out.Total = &n
	}
	return out, err
}
