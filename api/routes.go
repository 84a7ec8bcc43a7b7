package api

import (
	"bufio"
	"context"
	"fmt"
	"mime/multipart"
	"strconv"
	"strings"
	"time"

	"freshseal/core/cert"
	"freshseal/core/due"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/service"

	"github.com/gofiber/fiber/v3"
)

// Version is the program's version.
const Version = "0.1.0"

// route is one address of the API: what it takes, what it gives and how it is
// described. The OpenAPI document is made of this list, so that the two cannot
// differ.
type route struct {
	method, path, summary string
	status                int
	in, out               any // nil: nothing
	handler               func(*Server) fiber.Handler
	open                  bool         // may be called without signing in
	quiet                 bool         // changes nothing that the ledger wants to know
	role                  service.Role // that is needed; where none is said, viewers may look and operators change
	media                 string       // of the answer, when it is not JSON
}

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

// page wraps a list.
type page[T any] struct {
	Items []T `json:"items" required:"true" nullable:"false"`
}

type (
	nothing struct{}
	byName  struct {
		Name string `path:"name" json:"-"`
	}
	byID struct {
		ID string `path:"id" json:"-"`
	}
	editDevice struct {
		Name string `path:"name" json:"-"`
		service.DeviceChange
	}
	bySlot struct {
		Device string `path:"device" json:"-"`
		Slot   string `path:"slot" json:"-"`
	}
	slotQuery struct {
		Condition string `query:"condition" json:"-"`
		Device    string `query:"device" json:"-"`
		Site      string `query:"site" json:"-"`
		Text      string `query:"text" json:"-" description:"somewhere in the names, site or address"`
		Limit     string `query:"limit" json:"-"`
		Cursor    string `query:"cursor" json:"-" description:"next of the page before"`
	}
	slotPage struct {
		Items []service.Slot `json:"items" required:"true"`
		Next  string         `json:"next,omitempty" description:"cursor of the next page, where there is one"`
	}
	filterReplacements struct {
		Device string `query:"device" json:"-"`
		Slot   string `query:"slot" json:"-"`
	}
	askHostKey struct {
		Site    string `json:"site,omitempty"`
		Address string `json:"address" required:"true"`
		Port    int    `json:"port" required:"true"`
	}
	hostKey struct {
		HostKey string `json:"host_key" required:"true"`
	}
	askReading struct {
		Address    string `json:"address" required:"true"`
		Port       int    `json:"port" required:"true"`
		ServerName string `json:"server_name,omitempty"`
	}
	askAnchors struct {
		PEM string `json:"pem" required:"true" description:"one or more roots"`
	}
	askPassword struct {
		Old string `json:"old" required:"true"`
		New string `json:"new" required:"true"`
	}
	before struct {
		Before string `query:"before" json:"-" description:"the id of the last entry seen"`
	}
	askParcel struct {
		Signer string `json:"signer" required:"true"`
	}
	swept struct {
		Read int `json:"read" required:"true"`
		Dark int `json:"dark" required:"true"`
	}
	// Procedure is a family's procedure as the API lists it.
	Procedure struct {
		Name     string   `json:"name" required:"true"`
		Title    string   `json:"title" required:"true"`
		About    string   `json:"about" required:"true"`
		Settings []string `json:"settings" required:"true"`
		YAML     string   `json:"yaml" required:"true"`
	}
	intakeForm struct {
		Files      []*multipart.FileHeader `formData:"file" required:"true" description:"the files of the pile, any names"`
		TrustRoots bool                    `formData:"trust_roots" description:"trust the roots in the pile"`
	}
)

const v1 = "/api/v1"

var routes = []route{
	{method: "GET", path: "/healthz", summary: "say that the service is there", status: 200, out: Health{}, handler: health, open: true},
	{method: "GET", path: "/readyz", summary: "say whether the service can do its work", status: 200, out: Health{}, handler: ready, open: true},
	{method: "GET", path: v1 + "/backup", role: service.Admin, summary: "a copy of the database, as of one moment", status: 200, media: "application/vnd.sqlite3", handler: backup},
	{method: "GET", path: v1 + "/openapi.json", summary: "this description", status: 200, out: map[string]any{}, handler: describe, open: true},
	{method: "POST", path: v1 + "/session", summary: "sign in", status: 201, in: SignIn{}, out: Session{}, handler: signIn, open: true},
	{method: "GET", path: v1 + "/session", summary: "who is signed in", status: 200, out: Session{}, handler: session},
	{method: "DELETE", path: v1 + "/session", role: service.Viewer, summary: "sign out", status: 204, handler: signOut(false)},
	{method: "DELETE", path: v1 + "/sessions", role: service.Viewer, summary: "sign out everywhere", status: 204, handler: signOut(true)},
	{method: "POST", path: v1 + "/password", role: service.Viewer, summary: "change one's own password; all other sessions end", status: 204, in: askPassword{},
		handler: call(204, func(ctx context.Context, s *Server, who service.Bearer, in askPassword) (nothing, error) {
			return nothing{}, s.service.ChangePassword(ctx, who, in.Old, in.New)
		})},
	listing(v1+"/users", "list users", service.Admin, (*service.Service).Users),
	{method: "POST", path: v1 + "/users", role: service.Admin, summary: "add a user", status: 201, in: service.NewUser{}, out: service.User{},
		handler: call(201, func(ctx context.Context, s *Server, _ service.Bearer, in service.NewUser) (service.User, error) {
			return s.service.AddUser(ctx, in)
		})},
	removal(v1+"/users/{name}", "remove a user; all sessions end", service.Admin, (*service.Service).RemoveUser),
	listing(v1+"/tokens", "list tokens", service.Admin, (*service.Service).Tokens),
	{method: "POST", path: v1 + "/tokens", role: service.Admin, summary: "make a token for a program", status: 201, in: service.NewToken{}, out: service.Token{},
		handler: call(201, func(ctx context.Context, s *Server, who service.Bearer, in service.NewToken) (service.Token, error) {
			return s.service.AddToken(ctx, in, who)
		})},
	{method: "DELETE", path: v1 + "/tokens/{id}", role: service.Admin, summary: "end a token", status: 204, in: byID{},
		handler: call(204, func(ctx context.Context, s *Server, _ service.Bearer, in byID) (nothing, error) {
			return nothing{}, s.service.RemoveToken(ctx, in.ID)
		})},
	{method: "GET", path: v1 + "/ledger", summary: "the ledger, newest first", status: 200, in: before{}, out: page[service.LedgerEntry]{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in before) (page[service.LedgerEntry], error) {
			items, err := s.service.Ledger(ctx, in.Before)
			return page[service.LedgerEntry]{items}, err
		})},
	{method: "GET", path: v1 + "/ledger/verification", summary: "see whether every entry is as it was written", status: 200, out: service.Verification{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, _ nothing) (service.Verification, error) {
			return s.service.VerifyLedger(ctx)
		})},
	{method: "GET", path: v1 + "/status", summary: "how the fleet stands", status: 200, out: Status{}, handler: call(200, status)},

	{method: "POST", path: v1 + "/host-keys", quiet: true, summary: "ask an SSH server for its host key", status: 200, in: askHostKey{}, out: hostKey{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in askHostKey) (hostKey, error) {
			pin, err := s.service.AskHostKey(ctx, in.Site, in.Address, in.Port)
			return hostKey{pin}, err
		})},
	listing(v1+"/devices", "list devices", service.Viewer, (*service.Service).Devices),
	{method: "POST", path: v1 + "/devices", role: service.Admin, summary: "add a device", status: 201, in: service.NewDevice{}, out: service.Device{},
		handler: call(201, func(ctx context.Context, s *Server, _ service.Bearer, in service.NewDevice) (service.Device, error) {
			return s.service.AddDevice(ctx, in)
		})},
	{method: "GET", path: v1 + "/devices/{name}", summary: "show a device", status: 200, in: byName{}, out: service.Device{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in byName) (service.Device, error) {
			return s.service.Device(ctx, in.Name)
		})},
	{method: "PATCH", path: v1 + "/devices/{name}", role: service.Admin, summary: "change a device", status: 200, in: editDevice{}, out: service.Device{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in editDevice) (service.Device, error) {
			return s.service.EditDevice(ctx, in.Name, in.DeviceChange)
		})},
	{method: "POST", path: v1 + "/imports", role: service.Admin, summary: "add devices from a CSV file", status: 200, in: service.ImportTerms{}, out: service.Import{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in service.ImportTerms) (service.Import, error) {
			return s.service.ImportDevices(ctx, in)
		})},
	{method: "GET", path: v1 + "/export", role: service.Admin, summary: "all devices as CSV, without secrets", status: 200, media: "text/csv", handler: export},
	removal(v1+"/devices/{name}", "remove a device with its history", service.Admin, (*service.Service).RemoveDevice),

	listing(v1+"/sites", "list sites", service.Viewer, (*service.Service).Sites),
	{method: "POST", path: v1 + "/sites", role: service.Admin, summary: "add a site", status: 201, in: service.NewSite{}, out: service.Site{},
		handler: call(201, func(ctx context.Context, s *Server, _ service.Bearer, in service.NewSite) (service.Site, error) {
			return s.service.AddSite(ctx, in)
		})},
	removal(v1+"/sites/{name}", "remove a site; its devices are reached directly from then on", service.Admin, (*service.Service).RemoveSite),

	{method: "GET", path: v1 + "/slots", summary: "list slots, worst condition first, then soonest end; up to 1000 a page", status: 200, in: slotQuery{}, out: slotPage{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in slotQuery) (slotPage, error) {
			return listSlots(ctx, s.service, in)
		})},
	{method: "GET", path: v1 + "/slots/{device}/{slot}", summary: "show a slot with its chain and findings", status: 200, in: bySlot{}, out: service.Slot{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in bySlot) (service.Slot, error) {
			return s.service.Slot(ctx, in.Device, in.Slot)
		})},
	{method: "GET", path: v1 + "/slots/{device}/{slot}/readings", summary: "a slot's history, newest first", status: 200, in: bySlot{}, out: page[service.PastReading]{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in bySlot) (page[service.PastReading], error) {
			items, err := s.service.Readings(ctx, in.Device, in.Slot)
			return page[service.PastReading]{items}, err
		})},
	{method: "POST", path: v1 + "/slots/{device}/{slot}/readings", quiet: true, summary: "read a slot now", status: 200, in: bySlot{}, out: service.Slot{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in bySlot) (service.Slot, error) {
			return s.service.ReadSlot(ctx, in.Device, in.Slot)
		})},
	{method: "POST", path: v1 + "/sweeps", quiet: true, summary: "read every slot now", status: 200, out: swept{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, _ nothing) (swept, error) {
			read, dark, err := s.service.ReadAll(ctx)
			return swept{read, dark}, err
		})},
	{method: "POST", path: v1 + "/readings", quiet: true, summary: "read an address that is in no inventory", status: 200, in: askReading{}, out: service.Seen{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in askReading) (service.Seen, error) {
			return s.service.ReadAddress(ctx, in.Address, in.Port, in.ServerName)
		})},

	{method: "POST", path: v1 + "/rehearsals", quiet: true, summary: "show every step of a replacement; nothing is sent", status: 200, in: service.Order{}, out: service.Rehearsal{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in service.Order) (service.Rehearsal, error) {
			return s.service.Rehearse(ctx, in)
		})},
	{method: "GET", path: v1 + "/replacements", summary: "list replacements, newest first", status: 200, in: filterReplacements{}, out: page[service.Replacement]{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in filterReplacements) (page[service.Replacement], error) {
			items, err := s.service.Replacements(ctx, in.Device, in.Slot)
			return page[service.Replacement]{items}, err
		})},
	{method: "POST", path: v1 + "/replacements", summary: "begin a replacement", status: 202, in: service.Order{}, out: service.Replacement{},
		handler: call(202, func(ctx context.Context, s *Server, who service.Bearer, in service.Order) (service.Replacement, error) {
			return s.service.Begin(ctx, in, who.User)
		})},
	{method: "GET", path: v1 + "/replacements/{id}", summary: "show a replacement with its journal", status: 200, in: byID{}, out: service.Replacement{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in byID) (service.Replacement, error) {
			return s.service.Replacement(ctx, in.ID)
		})},
	{method: "GET", path: v1 + "/replacements/{id}/events", summary: "progress as server-sent events, until the replacement stands still", status: 200,
		in: byID{}, out: service.Event{}, media: "text/event-stream", handler: events},
	ask("cancel", "give a replacement up", replacement.AskedCancel),
	ask("revert", "put the old certificate back", replacement.AskedRevert),
	ask("resume", "let a held replacement go on", replacement.AskedResume),

	{method: "GET", path: v1 + "/signers", summary: "list signers", status: 200, out: page[service.Signer]{},
		handler: call(200, func(_ context.Context, s *Server, _ service.Bearer, _ nothing) (page[service.Signer], error) {
			return page[service.Signer]{s.service.Signers()}, nil
		})},
	listing(v1+"/parcels", "list parcels, newest first", service.Viewer, (*service.Service).Parcels),
	{method: "POST", path: v1 + "/parcels", summary: "pack the requests that wait for a signer", status: 201, in: askParcel{}, out: service.Parcel{},
		handler: call(201, func(ctx context.Context, s *Server, who service.Bearer, in askParcel) (service.Parcel, error) {
			return s.service.PackParcel(ctx, in.Signer, who.User)
		})},
	{method: "GET", path: v1 + "/parcels/{id}/archive", summary: "the parcel as a zip archive", status: 200, in: byID{}, media: "application/zip", handler: archive},
	{method: "POST", path: v1 + "/intakes", summary: "take in what a signer sent back", status: 200, in: intakeForm{}, out: service.Intake{}, handler: intake},

	listing(v1+"/anchors", "list the roots that the fleet trusts", service.Viewer, (*service.Service).Anchors),
	{method: "POST", path: v1 + "/anchors", role: service.Admin, summary: "trust roots", status: 201, in: askAnchors{}, out: page[cert.Facts]{},
		handler: call(201, func(ctx context.Context, s *Server, _ service.Bearer, in askAnchors) (page[cert.Facts], error) {
			items, err := s.service.AddAnchors(ctx, []byte(in.PEM))
			return page[cert.Facts]{items}, err
		})},
	listing(v1+"/policies", "list the rules of every scope, the fleet's first", service.Viewer, (*service.Service).Policies),
	{method: "PUT", path: v1 + "/policies", role: service.Admin, summary: "set the rules of a scope", status: 200, in: service.Policy{}, out: service.Policy{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, in service.Policy) (service.Policy, error) {
			return s.service.SetPolicy(ctx, in)
		})},
	{method: "GET", path: v1 + "/procedures", summary: "list procedures", status: 200, out: page[Procedure]{},
		handler: call(200, func(_ context.Context, s *Server, _ service.Bearer, _ nothing) (page[Procedure], error) {
			var out page[Procedure]
			for _, p := range s.service.Procedures() {
				out.Items = append(out.Items, showProcedure(p))
			}
			return out, nil
		})},
	{method: "GET", path: v1 + "/procedures/{name}", summary: "show a procedure", status: 200, in: byName{}, out: Procedure{},
		handler: call(200, func(_ context.Context, s *Server, _ service.Bearer, in byName) (Procedure, error) {
			p, err := s.service.Procedure(in.Name)
			return showProcedure(p), err
		})},
}

func listSlots(ctx context.Context, s *service.Service, in slotQuery) (slotPage, error) {
	q := service.SlotQuery{Cursor: in.Cursor, Filter: service.SlotFilter{Condition: due.Condition(in.Condition), Device: in.Device, Site: in.Site, Text: in.Text}}
	if in.Limit != "" {
		var err error
		if q.Limit, err = strconv.Atoi(in.Limit); err != nil || q.Limit < 1 {
			return slotPage{}, &service.Error{Kind: service.Invalid, What: "the list cannot be that long", Why: in.Limit + " is no number of slots", Next: "give a number from 1 to 1000"}
		}
	}
	items, next, err := s.Slots(ctx, q)
	return slotPage{items, next}, err
}

func showProcedure(p procedure.Source) Procedure {
	out := Procedure{Name: p.Name, Title: p.Title, About: p.About, YAML: p.YAML, Settings: []string{}}
	for _, s := range p.Settings {
		out.Settings = append(out.Settings, s.Name)
	}
	return out
}

// listing is a list that takes nothing.
func listing[T any](path, summary string, role service.Role, list func(*service.Service, context.Context) ([]T, error)) route {
	return route{method: "GET", path: path, summary: summary, role: role, status: 200, out: page[T]{},
		handler: call(200, func(ctx context.Context, s *Server, _ service.Bearer, _ nothing) (page[T], error) {
			items, err := list(s.service, ctx)
			return page[T]{items}, err
		})}
}

// removal takes something away by its name.
func removal(path, summary string, role service.Role, remove func(*service.Service, context.Context, string) error) route {
	return route{method: "DELETE", path: path, summary: summary, role: role, status: 204, in: byName{},
		handler: call(204, func(ctx context.Context, s *Server, _ service.Bearer, in byName) (nothing, error) {
			return nothing{}, remove(s.service, ctx, in.Name)
		})}
}

func ask(verb, summary string, what replacement.EventKind) route {
	return route{method: "POST", path: v1 + "/replacements/{id}/" + verb, summary: summary, status: 202, in: byID{}, out: service.Replacement{},
		handler: call(202, func(ctx context.Context, s *Server, who service.Bearer, in byID) (service.Replacement, error) {
			return s.service.Ask(ctx, in.ID, what, who.User)
		})}
}

func backup(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		if err := s.service.Record(c.Context(), bearer(c).User, "copy the database", ""); err != nil {
			return err
		}
		content, err := s.service.Backup(c.Context())
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/vnd.sqlite3")
		return c.Send(content)
	}
}

func export(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		content, err := s.service.ExportDevices(c.Context())
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "text/csv; charset=utf-8")
		return c.Send(content)
	}
}

func archive(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		content, err := s.service.ParcelArchive(c.Context(), c.Params("id"))
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/zip")
		c.Set(fiber.HeaderContentDisposition, `attachment; filename="parcel.zip"`)
		return c.Send(content)
	}
}

func intake(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		files, err := pileOf(c)
		if err != nil {
			return err
		}
		out, err := s.service.TakeIn(c.Context(), files, c.FormValue("trust_roots") == "true", bearer(c).User)
		if err != nil {
			return err
		}
		return c.JSON(out)
	}
}

// events streams a replacement's events (WHATWG HTML, 9.2). A client that lost
// the stream goes on where it was with Last-Event-ID.
func events(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		id := strings.Clone(c.Params("id"))
		if _, err := s.service.Replacement(c.Context(), id); err != nil {
			return err
		}
		after, _ := strconv.ParseInt(c.Get("Last-Event-ID"), 10, 64) // none, or nonsense: from the first
		c.Set(fiber.HeaderContentType, "text/event-stream")
		c.Set(fiber.HeaderCacheControl, "no-store")
		conn := c.RequestCtx().Conn()
		return c.SendStreamWriter(func(w *bufio.Writer) {
			flush := func() error {
				conn.SetWriteDeadline(time.Now().Add(30 * time.Second))
				return w.Flush()
			}
			err := s.service.Watch(s.stop, id, after, func(e service.Event) error {
				fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.JSON())
				return flush()
			})
			if err == nil {
				fmt.Fprint(w, "event: still\ndata: {}\n\n")
				flush()
			}
		})
	}
}
