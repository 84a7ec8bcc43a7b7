package api

import (
	"bufio"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/service"

	"github.com/gofiber/fiber/v3"
)

// exportAnchors sends a file of roots; what to do with it stands in the header
// Instruction.
func exportAnchors(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askExport
		if err := decode(c, &in); err != nil {
			return err
		}
		f, err := s.service.ExportAnchors(c.Context(), in.Name, in.Export)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, f.Media)
		c.Set(fiber.HeaderContentDisposition, fmt.Sprintf(`attachment; filename="%s"`, f.Name)) // an audience's name needs no quoting
		c.Set("Instruction", f.Do)
		return c.Send(f.Content)
	}
}

// exportKey sends a key that was kept.
func exportKey(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		var in askKey
		if err := decode(c, &in); err != nil {
			return err
		}
		content, err := s.service.ExportKey(c.Context(), in.ID, in.KeyExport, bearer(c).User)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/x-pkcs12")
		c.Set(fiber.HeaderCacheControl, "no-store")
		return c.Send(content)
	}
}

func taskFile(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		name := c.Params("name")
		content, err := s.service.TaskFile(c.Context(), c.Params("id"), name)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/octet-stream")
		c.Set(fiber.HeaderContentDisposition, fmt.Sprintf(`attachment; filename="%s"`, name)) // a procedure's file names need no quoting
		return c.Send(content)
	}
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

// passphrases are those that came with a pile.
func passphrases(c fiber.Ctx) []string {
	form, err := c.MultipartForm()
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(form.Value["passphrase"]), func(p string) bool { return p == "" })
}

func intake(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		files, err := pileOf(c)
		if err != nil {
			return err
		}
		out, err := s.service.TakeIn(c.Context(), files, service.IntakeTerms{TrustRoots: c.FormValue("trust_roots") == "true", Passphrases: passphrases(c)}, bearer(c).User)
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
}
