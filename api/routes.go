package api

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"freshseal/service"

	"github.com/gofiber/fiber/v3"
)

// Version is the program's version.
const Version = "0.2.0"

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
	quiet                 bool                                  // changes nothing that the ledger wants to know
	role                  service.Role                          // that is needed; where none is said, viewers may look and operators change
	media                 string                                // of the answer, when it is not JSON
}

// routes are all routes, room by room.
var routes = slices.Concat(ownRoutes, peopleRoutes, fleetRoutes, workRoutes, deskRoutes, ruleRoutes)

// needs is the role that a call needs.
func (r route) needs() service.Role {
	switch {
	case r.role != "":
		return r.role
	case r.method == "GET":
		return service.Viewer
	}
	return service.Operator
}

// by says which role is needed.
func (r route) by(role service.Role) route {
	r.role = role
	return r
}

// quietly says that the ledger need not know.
func (r route) quietly() route {
	r.quiet = true
	return r
}

// openly says that it may be called without signing in.
func (r route) openly() route {
	r.open = true
	return r
}

// use is a use case behind a route.
type use[In, Out any] func(ctx context.Context, s *service.Service, who service.Bearer, in In) (Out, error)

func looks[In, Out any](path, summary string, f use[In, Out]) route {
	var in In
	var out Out
	return route{method: "GET", path: v1 + path, summary: summary, status: 200, in: in, out: out, handler: call(200, f),
		shown: func(s *Server, c fiber.Ctx) (any, error) {
			var in In
			if err := decode(c, &in); err != nil {
				return nil, err
			}
			return f(c.Context(), s.service, bearer(c), in)
		}}
}

func does[In, Out any](method, path, summary string, status int, f use[In, Out]) route {
	var in In
	var out Out
	return route{method: method, path: v1 + path, summary: summary, status: status, in: in, out: out, handler: call(status, f)}
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
func ends[In any](method, path, summary string, f func(ctx context.Context, s *service.Service, who service.Bearer, in In) error) route {
	r := does(method, path, summary, 204, func(ctx context.Context, s *service.Service, who service.Bearer, in In) (nothing, error) {
		return nothing{}, f(ctx, s, who, in)
	})
	r.out = nil
	return r
}

// listing is a list that takes nothing.
func listing[T any](path, summary string, list func(*service.Service, context.Context) ([]T, error)) route {
	return looks(path, summary, func(ctx context.Context, s *service.Service, _ service.Bearer, _ nothing) (page[T], error) {
		items, err := list(s, ctx)
		return page[T]{Items: items}, err
	})
}

// showing shows one thing by its name.
func showing[T any](path, summary string, show func(*service.Service, context.Context, string) (T, error)) route {
	return looks(path, summary, func(ctx context.Context, s *service.Service, _ service.Bearer, in byName) (T, error) {
		return show(s, ctx, in.Name)
	})
}

// removal takes something away by its name.
func removal(path, summary string, remove func(*service.Service, context.Context, string) error) route {
	return ends("DELETE", path, summary, func(ctx context.Context, s *service.Service, _ service.Bearer, in byName) error {
		return remove(s, ctx, in.Name)
	}).by(service.Admin)
}

// page is a list or a part of one.
type page[T any] struct {
	Items []T    `json:"items" required:"true" nullable:"false"`
	Next  string `json:"next,omitempty" description:"cursor of the next page, where there is one"`
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
	}
)

func (p paged) page() (service.Page, error) {
	out := service.Page{Sort: p.Sort, Desc: p.Desc == "true", Cursor: p.Cursor}
	if p.Limit == "" {
		return out, nil
	}
	var err error
	if out.Limit, err = strconv.Atoi(p.Limit); err != nil || out.Limit < 1 {
		return out, &service.Error{Kind: service.Invalid, What: "the list cannot be that long", Why: fmt.Sprintf("%q is no number of items", p.Limit), Next: "give a number from 1 to 1000"}
	}
	return out, nil
}

// pageOf reads a page of a list.
func pageOf[F, T any](ctx context.Context, p paged, filter F, list func(context.Context, F, service.Page) ([]T, string, error)) (page[T], error) {
	wanted, err := p.page()
	if err != nil {
		return page[T]{}, err
	}
	items, next, err := list(ctx, filter, wanted)
	return page[T]{items, next}, err
}
