package api

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/trust"
	"freshseal/service"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/service/sheet"

	"github.com/gofiber/fiber/v3"
)

// exportAnchors sends a file of roots; what to do with it is in the header
// Instruction.
func exportAnchors(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askExport
		if err := decode(c, &in, plainBody); err != nil {
			return err
		}
		f, err := s.service.Monitor.Trust.ExportAnchors(c.Context(), in.Name, in.Export)
		if err != nil {
			return err
		}
		return sendRoots(c, f)
	}
}

// exportAuthority sends one certificate likewise.
func exportAuthority(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askAuthorityExport
		if err := decode(c, &in, plainBody); err != nil {
			return err
		}
		f, err := s.service.Monitor.Trust.ExportAuthority(c.Context(), in.SHA256, in.Export)
		if err != nil {
			return err
		}
		return sendRoots(c, f)
	}
}

// slotChain sends the chain of a slot.
func slotChain(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askChain
		if err := decode(c, &in, plainBody); err != nil {
			return err
		}
		content, err := s.service.Fleet.Chain(c.Context(), in.Device, in.Slot,
			cmp.Or(in.Form, pack.LeafFirstWithRoot), cmp.Or(in.Encoding, pack.PEM))
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/octet-stream")
		return c.Send(content)
	}
}

func sendRoots(c fiber.Ctx, f trust.File) error {
	c.Set(fiber.HeaderContentType, f.Media)
	// its letters need no quoting
	c.Set(fiber.HeaderContentDisposition, fmt.Sprintf(`attachment; filename="%s"`, f.Name))
	c.Set("Instruction", f.Do)
	return c.Send(f.Content)
}

// exportKey sends a key that was kept.
func exportKey(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askKey
		if err := decode(c, &in, plainBody); err != nil {
			return err
		}
		content, err := s.service.Replace.Exports.ExportKey(c.Context(), in.ID, in.KeyExport, bearer(c).User)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/x-pkcs12")
		c.Set(fiber.HeaderCacheControl, "no-store")
		return c.Send(content)
	}
}

func exportFile(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askFile
		if err := decode(c, &in, plainBody); err != nil {
			return err
		}
		content, err := s.service.Replace.Exports.ExportFile(c.Context(), in.ID, in.Name, in.FileExport, bearer(c).User)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/octet-stream")
		c.Set(fiber.HeaderCacheControl, "no-store")
		return c.Send(content)
	}
}

func taskFile(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		name := c.Params("name")
		content, err := s.service.Replace.Tasks.File(c.Context(), c.Params("id"), name, bearer(c).User,
			bearer(c).Role.Reaches(contract.Operator))
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/octet-stream")
		c.Set(fiber.HeaderCacheControl, "no-store") // it may be a key
		// a procedure's file names need no quoting
		c.Set(fiber.HeaderContentDisposition, fmt.Sprintf(`attachment; filename="%s"`, name))
		return c.Send(content)
	}
}

func backup(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		if err := s.service.People.Record(c.Context(), bearer(c).User, "copy the database", ""); err != nil {
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
		if err := s.service.People.Record(c.Context(), bearer(c).User, "export all devices", ""); err != nil {
			return err
		}
		f, err := s.service.Fleet.Inventory.ExportDevices(c.Context(), c.Query("form"))
		if err != nil {
			return err
		}
		return sendSheet(c, f)
	}
}

// sendSheet sends a file for a spreadsheet.
func sendSheet(c fiber.Ctx, f sheet.File) error {
	c.Set(fiber.HeaderContentType, f.Media)
	c.Set(fiber.HeaderContentDisposition, fmt.Sprintf(`attachment; filename="%s"`, f.Name)) // our own words
	return c.Send(f.Content)
}

// asCSV sends the rows that fit a query as CSV, all of them, and records who took them.
func asCSV[Q interface{ page() (paging.Page, error) }](name, act string, write func(ctx context.Context,
	s *service.Service, w io.Writer, in Q, p paging.Page) error) func(*Server) fiber.Handler {
	return asFile(name, "text/csv; charset=utf-8", act, write)
}

// asFile is asCSV for a file of another kind.
func asFile[Q interface{ page() (paging.Page, error) }](name, media, act string, write func(ctx context.Context,
	s *service.Service, w io.Writer, in Q, p paging.Page) error) func(*Server) fiber.Handler {
	return func(s *Server) fiber.Handler {
		return func(c fiber.Ctx) error {
			var in Q
			if err := decode(c, &in, 0); err != nil {
				return err
			}
			wanted, err := in.page()
			if err != nil {
				return err
			}
			var rows bytes.Buffer
			if err := write(c.Context(), s.service, &rows, in, wanted); err != nil {
				return err
			}
			if err := s.service.People.Record(c.Context(), bearer(c).User, act,
				string(c.Request().URI().QueryString())); err != nil {
				return err
			}
			return sendSheet(c, sheet.File{Name: name, Media: media, Content: rows.Bytes()})
		}
	}
}

func archive(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		content, err := s.service.Signing.ParcelArchive(c.Context(), c.Params("id"))
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
		ctx, leave, err := s.aPlace(c.Context())
		if err != nil {
			return err
		}
		defer leave()
		in, err := uploadOf(c)
		if err != nil {
			return err
		}
		field := func(name string) []string {
			return slices.DeleteFunc(in.fields[name], func(text string) bool { return text == "" })
		}
		if slices.Contains(field("trust_roots"), "true") && !bearer(c).Role.Reaches(contract.Admin) {
			return problem.New(problem.Refused, "the pile was not taken in", "only an admin may let the fleet "+
				"trust roots", "take it in without trusting its roots, or ask an admin")
		}
		if slices.Contains(field("trust_roots"), "true") {
			if err := s.service.People.Sure(ctx, bearer(c)); err != nil {
				return err
			}
		}
		out, err := s.service.Signing.TakeIn(ctx, in.files,
			contract.IntakeTerms{Keys: slices.Contains(field("keys"), "true"),
				TrustRoots: slices.Contains(field("trust_roots"), "true"), Passphrases: field("passphrase")},
			bearer(c).User)
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
		if _, err := s.service.Replace.Replacement(c.Context(), id); err != nil {
			return err
		}
		after, _ := strconv.ParseInt(c.Get("Last-Event-ID"), 10, 64) // none, or nonsense: from the first
		return s.stream(c, func(take func(contract.Event) error, beat func() error) error {
			return s.service.Replace.Watch(s.stop, id, after, take, beat)
		})
	}
}

// happenings streams what happens from now on, or after Last-Event-ID.
func happenings(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		about := strings.Clone(c.Query("about"))
		after, err := strconv.ParseInt(c.Get("Last-Event-ID"), 10, 64)
		if err != nil {
			if after, err = s.service.Monitor.LastEvent(c.Context()); err != nil {
				return err
			}
		}
		return s.stream(c, func(take func(contract.Event) error, beat func() error) error {
			return s.service.Monitor.Follow(s.stop, about, after, take, beat, func() (bool, error) {
				return false, nil
			})
		})
	}
}

// stream sends events until follow ends; that it ended well is an event too.
func (s *Server) stream(c fiber.Ctx, follow func(take func(contract.Event) error, beat func() error) error) error {
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-store")
	conn, who := c.RequestCtx().Conn(), bearer(c)
	request := requestID(c)
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() { // it runs beside the call
			if r := recover(); r != nil {
				s.panicked(request, r)
			}
		}()
		flush := func() error {
			// A stream ends with the session or token that opened it.
			if _, err := s.service.People.Still(s.calls, who.Secret, who.From); err != nil {
				return err
			}
			conn.SetWriteDeadline(time.Now().Add(30 * time.Second))
			return w.Flush()
		}
		fmt.Fprint(w, ": here\n\n") // so that the client knows at once that it is let in
		if flush() != nil {
			return
		}
		err := follow(func(e contract.Event) error {
			fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.JSON())
			return flush()
		}, func() error {
			fmt.Fprint(w, ": still here\n\n")
			return flush()
		})
		if err == nil {
			fmt.Fprint(w, "event: still\ndata: {}\n\n")
			flush()
		}
	})
}
