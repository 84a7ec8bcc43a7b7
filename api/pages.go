package api

import (
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"mime"
	"path"
	"strings"

	"freshseal/console"

	"github.com/gofiber/fiber/v3"
)

// asset is one file of the console with what its answer carries.
type asset struct {
	content []byte
	media   string
	etag    string
	cache   string
	small   map[string]func() []byte // by content coding; nil where it would save nothing
}

// isPage reports whether an address may be a page's: no file at the top, such as
// favicon.ico, and none of the assets. Devices have dots in their names.
func isPage(address string) bool {
	inside := strings.Count(address, "/") > 1
	return path.Ext(address) == "" || inside && !strings.HasPrefix(address, "/assets/")
}

// servePages serves the console. Every page address answers with the one
// document; what is missing under /assets stays missing.
func servePages(app *fiber.App) {
	assets := map[string]asset{}
	files := console.Files()
	fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || strings.HasSuffix(name, ".br") {
			return err
		}
		content, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(content)
		a := asset{content, mime.TypeByExtension(path.Ext(name)), `"` + hex.EncodeToString(sum[:8]) + `"`, "no-cache",
			map[string]func() []byte{"gzip": shrink(content), "br": func() []byte {
				small, _ := fs.ReadFile(files, name+".br") // made by the build, where it saves something
				return small
			}}}
		if strings.HasPrefix(name, "assets/") {
			a.cache = "public, max-age=31536000, immutable" // their names change with their content
		}
		assets["/"+name] = a
		return nil
	})
	app.Get("/*", func(c fiber.Ctx) error {
		a, ok := assets[c.Path()]
		if !ok && isPage(c.Path()) {
			a, ok = assets["/index.html"]
		}
		if !ok {
			return fiber.ErrNotFound
		}
		c.Set(fiber.HeaderETag, a.etag)
		c.Set(fiber.HeaderCacheControl, a.cache)
		if c.Get(fiber.HeaderIfNoneMatch) == a.etag {
			return c.SendStatus(fiber.StatusNotModified)
		}
		c.Set(fiber.HeaderContentType, a.media)
		c.Set(fiber.HeaderVary, fiber.HeaderAcceptEncoding)
		for _, coding := range []string{"br", "gzip"} {
			if c.Get(fiber.HeaderAcceptEncoding) == "" || c.AcceptsEncodings(coding) == "" {
				continue
			}
			if small := a.small[coding](); small != nil {
				c.Set(fiber.HeaderContentEncoding, coding)
				return c.Send(small)
			}
		}
		return c.Send(a.content)
	})
}
