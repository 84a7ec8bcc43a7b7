package screen

import (
	"strings"
	"testing"
)

func TestAScreenIsDrawnAsAPersonSeesIt(t *testing.T) {
	for _, c := range []struct{ name, sent, want string }{
		{"lines", "one\r\ntwo", "one\ntwo"},
		{"a progress that is written over itself", "  3%\r 37%\r100%", "100%"},
		{"a menu that is placed", "\x1b[2J\x1b[3;5Hchoice:\x1b[1;1Htitle", "title\n\n    choice:"},
		{"what is erased", "abcdef\x1b[3D\x1b[K", "abc"},
		{"backspaces", "abc\b\bX", "aXc"},
		{"deleted and inserted characters", "abcdef\x1b[1G\x1b[2P\x1b[1@", " cdef"},
		{"a frame in drawing characters", "\x1b(0lqk\x1b(B", "┌─┐"},
		{"colours and titles", "\x1b]0;a title\x07\x1b[1;31mred\x1b[0m \x1b]2;x\x1b\\end", "red end"},
		{"a long line goes on below", strings.Repeat("x", 81), strings.Repeat("x", 80) + "\nx"},
		{"a region scrolls alone", "top\x1b[2;3r\x1b[2;1Ha\r\nb\r\nc", "top\nb\nc"},
		{"a rune in two parts of its own", "\xc3", ""},
		{"what is no UTF-8", "a\xffb", "a\ufffdb"},
		{"another screen", "old\x1b[?1049hnew", "new"},
	} {
		s := New()
		for _, b := range []byte(c.sent) { // as it may arrive
			s.Write([]byte{b})
		}
		if got := s.Text(); got != c.want {
			t.Errorf("%s: %q instead of %q", c.name, got, c.want)
		}
	}
}

func TestPlainIsWhatPatternsAreLookedForIn(t *testing.T) {
	for _, c := range []struct{ sent, want string }{
		{"  3%\r 37%\r\n", "  3%\n 37%\n"},
		{"\x1b[1;31mPassword\x1b[0m: ", "Password: "},
		{"\x1b[2J\x1b[5;3H1) network\x1b[6;3H2) keys", "1) network\n2) keys"},
		{"yez\bs", "yes"},
		{"a\x1b[3Cb", "a   b"},
	} {
		var p Plain
		p.Write([]byte(c.sent))
		if got := string(p.Bytes()); got != c.want {
			t.Errorf("%q: %q instead of %q", c.sent, got, c.want)
		}
	}
}

// A device may send whatever it likes: nothing panics, hangs or grows.
func FuzzScreen(f *testing.F) {
	for _, seed := range []string{"\x1b[2000000000b", "\x1b[99999;99999H\x1b[9999L", "\x1b]0;", "\x1b[5;2r\x1b[9999S",
		"\xf0\x9f", "\x1b[?;;;;;;;;;;h", "\x1b[24;80Hx\x1b[9999@"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, sent []byte) {
		s, p := New(), &Plain{}
		s.Write(sent)
		p.Write(sent)
		if lines := strings.Split(s.Text(), "\n"); len(lines) > Rows {
			t.Errorf("%d lines", len(lines))
		}
		if p.Len() > (len(sent)+1)*Columns {
			t.Errorf("%d bytes of %d", p.Len(), len(sent))
		}
	})
}
