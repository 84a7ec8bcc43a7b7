// Package screen understands what a program writes to a terminal, in two views:
//
//	bytes ─┬→ Plain   the text for patterns: escapes dropped, a lone CR or a jump is a line end
//	       └→ Screen  24 rows of 80 columns, as a person would see it
//
// It knows the control functions of ECMA-48 that full-screen menus use, and holds a
// fixed amount of memory whatever it is sent.
package screen

import (
	"strings"
	"unicode/utf8"
)

// The size of the terminal that devices are shown.
const (
	Rows    = 24
	Columns = 80
)

// Screen is what stands on a terminal. The zero value is not ready: use New.
type Screen struct {
	parser      parser
	cells       [Rows][Columns]rune
	row, column int
	wrap        bool // the last column was written; the next rune goes to the next line
	top, bottom int  // of the region that scrolls
	saved       [2]int
	lines       bool // drawing characters are selected (DEC special graphics)
	last        rune
}

// New returns an empty screen.
func New() *Screen {
	s := &Screen{}
	s.reset()
	return s
}

func (s *Screen) reset() {
	s.row, s.column, s.wrap, s.lines, s.saved = 0, 0, false, false, [2]int{}
	s.top, s.bottom = 0, Rows-1
	s.clear(0, 0, Rows, 0)
}

// Write draws bytes. It never fails.
func (s *Screen) Write(p []byte) (int, error) {
	s.parser.feed(p, s)
	return len(p), nil
}

// Text returns what is there, without the blanks at the ends of lines and without
// empty lines at the end.
func (s *Screen) Text() string {
	var b strings.Builder
	for _, row := range s.cells {
		b.WriteString(strings.TrimRight(string(row[:]), " ") + "\n")
	}
	return strings.TrimRight(b.String(), "\n")
}

// clear blanks from a place up to before another one.
func (s *Screen) clear(row, column, toRow, toColumn int) {
	for r := row; r < Rows && (r < toRow || r == toRow && toColumn > 0); r++ {
		from, to := 0, Columns
		if r == row {
			from = column
		}
		if r == toRow {
			to = toColumn
		}
		for c := from; c < to; c++ {
			s.cells[r][c] = ' '
		}
	}
}

func (s *Screen) move(row, column int) {
	s.row, s.column, s.wrap = min(max(row, 0), Rows-1), min(max(column, 0), Columns-1), false
}

// scroll moves the lines of a region up, or down where n is negative.
func (s *Screen) scroll(from, n int) {
	if from < s.top || from > s.bottom {
		return
	}
	size := s.bottom - from + 1
	for range min(max(n, -n), size) {
		if n > 0 {
			copy(s.cells[from:s.bottom], s.cells[from+1:s.bottom+1])
			s.clear(s.bottom, 0, s.bottom, Columns)
		} else {
			copy(s.cells[from+1:s.bottom+1], s.cells[from:s.bottom])
			s.clear(from, 0, from, Columns)
		}
	}
}

func (s *Screen) lineFeed() {
	if s.wrap = false; s.row == s.bottom {
		s.scroll(s.top, 1)
	} else if s.row < Rows-1 {
		s.row++
	}
}

// graphics are the drawing characters, by the letters that stand for them.
var graphics = map[rune]rune{'j': '┘', 'k': '┐', 'l': '┌', 'm': '└', 'n': '┼', 'q': '─', 't': '├', 'u': '┤', 'v': '┴',
	'w': '┬', 'x': '│', 'a': '▒'}

func (s *Screen) print(r rune) {
	if g, ok := graphics[r]; ok && s.lines {
		r = g
	}
	if s.wrap {
		s.column = 0
		s.lineFeed()
	}
	s.cells[s.row][s.column], s.last = r, r
	if s.column == Columns-1 {
		s.wrap = true
	} else {
		s.column++
	}
}

func (s *Screen) control(c byte) {
	switch c {
	case '\b':
		s.move(s.row, s.column-1)
	case '\t':
		s.move(s.row, (s.column/8+1)*8)
	case '\n', '\v', '\f':
		s.lineFeed()
	case '\r':
		s.move(s.row, 0)
	case 0x0e, 0x0f:
		s.lines = c == 0x0e
	}
}

func (s *Screen) escape(between, final byte) {
	switch {
	case between == '(':
		s.lines = final == '0'
	case between != 0:
	case final == '7':
		s.saved = [2]int{s.row, s.column}
	case final == '8':
		s.move(s.saved[0], s.saved[1])
	case final == 'c':
		s.reset()
	case final == 'D':
		s.lineFeed()
	case final == 'E':
		s.move(s.row, 0)
		s.lineFeed()
	case final == 'M' && s.row == s.top:
		s.scroll(s.top, -1)
	case final == 'M':
		s.move(s.row-1, s.column)
	}
}

// sequence carries out a control sequence; n are its numbers, 0 if one is left out.
// revive:disable-next-line:cyclomatic a table of control sequences
func (s *Screen) sequence(private bool, n [2]int, final byte) {
	once := max(n[0], 1)
	switch final {
	case 'A':
		s.move(s.row-once, s.column)
	case 'B', 'e':
		s.move(s.row+once, s.column)
	case 'C', 'a':
		s.move(s.row, s.column+once)
	case 'D':
		s.move(s.row, s.column-once)
	case 'E':
		s.move(s.row+once, 0)
	case 'F':
		s.move(s.row-once, 0)
	case 'G', '`':
		s.move(s.row, once-1)
	case 'd':
		s.move(once-1, s.column)
	case 'H', 'f':
		s.move(once-1, max(n[1], 1)-1)
	case 'J':
		switch n[0] {
		case 0:
			s.clear(s.row, s.column, Rows, 0)
		case 1:
			s.clear(0, 0, s.row, s.column+1)
		default:
			s.clear(0, 0, Rows, 0)
		}
	case 'K':
		from, to := s.column, Columns
		if n[0] > 0 {
			from = 0
		}
		if n[0] == 1 {
			to = s.column + 1
		}
		s.clear(s.row, from, s.row, to)
	case 'X':
		s.clear(s.row, s.column, s.row, min(s.column+once, Columns))
	case 'P':
		line := s.cells[s.row][s.column:]
		copy(line, line[min(once, len(line)):])
		s.clear(s.row, Columns-min(once, len(line)), s.row, Columns)
	case '@':
		line := s.cells[s.row][s.column:]
		k := min(once, len(line))
		copy(line[k:], line[:len(line)-k])
		s.clear(s.row, s.column, s.row, s.column+k)
	case 'L':
		s.scroll(s.row, -once)
	case 'M':
		s.scroll(s.row, once)
	case 'S':
		s.scroll(s.top, once)
	case 'T':
		s.scroll(s.top, -once)
	case 'b':
		for range min(once, Rows*Columns) {
			if s.last != 0 {
				s.print(s.last)
			}
		}
	case 'r':
		if private {
			return
		}
		top, bottom := once-1, n[1]-1
		if n[1] == 0 || bottom >= Rows {
			bottom = Rows - 1
		}
		if top < bottom {
			s.top, s.bottom = top, bottom
			s.move(0, 0)
		}
	case 's':
		s.saved = [2]int{s.row, s.column}
	case 'u':
		s.move(s.saved[0], s.saved[1])
	case 'h', 'l':
		if private && (n[0] == 1049 || n[0] == 47) {
			s.clear(0, 0, Rows, 0)
			s.move(0, 0)
		}
	}
}

// handler is what a parser tells of.
type handler interface {
	print(r rune)
	control(c byte)
	escape(between, final byte)
	sequence(private bool, n [2]int, final byte)
}

// parser divides a stream into text, controls and sequences. It keeps what is
// incomplete for the next call, and no more than a few bytes of it.
type parser struct {
	state   func(*parser, byte, handler)
	partial [utf8.UTFMax]byte // of a rune
	size    int
	between byte
	private bool
	n       [2]int
	at      int // which of n is read
}

func (p *parser) feed(text []byte, h handler) {
	if p.state == nil {
		p.state = (*parser).ground
	}
	for _, c := range text {
		p.state(p, c, h)
	}
}

func (p *parser) ground(c byte, h handler) {
	if p.size > 0 || c >= 0x80 {
		p.rune(c, h)
		return
	}
	switch {
	case c == 0x1b:
		p.state, p.between = (*parser).escaped, 0
	case c < 0x20:
		h.control(c)
	case c != 0x7f:
		h.print(rune(c))
	}
}

// rune collects the bytes of a rune; what is none is shown as the replacement character.
func (p *parser) rune(c byte, h handler) {
	if c < 0x80 { // the one before was cut
		p.size = 0
		h.print(utf8.RuneError)
		p.ground(c, h)
		return
	}
	p.partial[p.size] = c
	p.size++
	if !utf8.FullRune(p.partial[:p.size]) {
		return
	}
	r, _ := utf8.DecodeRune(p.partial[:p.size])
	p.size = 0
	if r >= 0x80 && r < 0xa0 {
		r = utf8.RuneError // C1 controls as text
	}
	h.print(r)
}

func (p *parser) escaped(c byte, h handler) {
	p.state = (*parser).ground
	switch {
	case c == '[':
		p.state, p.private, p.n, p.at = (*parser).numbers, false, [2]int{}, 0
	case c == ']', c == 'P', c == '_', c == '^', c == 'X':
		p.state = (*parser).text
	case c >= 0x20 && c < 0x30:
		p.state, p.between = (*parser).escaped, c
	case c == 0x1b:
		p.state = (*parser).escaped
	case c < 0x20:
		h.control(c)
		p.state = (*parser).escaped
	default:
		h.escape(p.between, c)
	}
}

// most is the largest number of a sequence that means anything here.
const most = 9999

func (p *parser) numbers(c byte, h handler) {
	switch {
	case c >= '0' && c <= '9':
		if p.at < len(p.n) {
			p.n[p.at] = min(p.n[p.at]*10+int(c-'0'), most)
		}
	case c == ';' || c == ':':
		p.at = min(p.at+1, len(p.n))
	case c >= 0x3c && c <= 0x3f:
		p.private = true
	case c == 0x1b:
		p.state, p.between = (*parser).escaped, 0
	case c < 0x20:
		h.control(c)
	case c >= 0x40 && c < 0x7f:
		p.state = (*parser).ground
		h.sequence(p.private, p.n, c)
	}
}

// text skips a title or the like, up to BEL or ESC \.
func (p *parser) text(c byte, _ handler) {
	switch c {
	case 0x07, 0x18, 0x1a:
		p.state = (*parser).ground
	case 0x1b:
		p.state = (*parser).textEnds
	}
}

func (p *parser) textEnds(c byte, h handler) {
	if c == '\\' {
		p.state = (*parser).ground
		return
	}
	p.between = 0
	p.escaped(c, h)
}
