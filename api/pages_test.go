package api

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http/httptest"
	"testing"

	"github.com/gofiber/fiber/v3"
)

// A page comes in the coding that its reader accepts, and is the same page in each.
func TestAPageComesInACodingThatIsAccepted(t *testing.T) {
	app := fiber.New()
	servePages(app)
	get := func(accepts string) (coding string, body []byte) {
		t.Helper()
		r := httptest.NewRequest("GET", "/slots", nil)
		if accepts != "" {
			r.Header.Set("Accept-Encoding", accepts)
		}
		answer, err := app.Test(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		if body, err = io.ReadAll(answer.Body); err != nil || answer.StatusCode != 200 {
			t.Fatal(answer.Status, err)
		}
		if answer.Header.Get("Vary") != "Accept-Encoding" {
			t.Errorf("%q: caches may give it to anybody", accepts)
		}
		return answer.Header.Get("Content-Encoding"), body
	}
	_, plain := get("")
	for accepts, want := range map[string]string{"": "", "identity": "", "deflate": "", "gzip": "gzip",
		"gzip, deflate, br": "br", "br": "br", "br;q=0, gzip": "gzip", "br;q=0, gzip;q=0": ""} {
		coding, body := get(accepts)
		if coding != want || coding == "" && !bytes.Equal(body, plain) {
			t.Errorf("%q: it came as %q", accepts, coding)
		}
		if coding == "gzip" {
			z, err := gzip.NewReader(bytes.NewReader(body))
			if err != nil {
				t.Fatal(err)
			}
			if text, err := io.ReadAll(z); err != nil || !bytes.Equal(text, plain) {
				t.Errorf("%q: another page, %v", accepts, err)
			}
		}
	}
}
