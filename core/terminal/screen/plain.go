package screen

import "bytes"

// Plain collects what a terminal was sent as lines of text, for patterns: escapes are
// dropped; a lone CR, a jump to another line and a cleared screen end a line.
type Plain struct {
	parser parser
	buffer bytes.Buffer
	cr     bool
}

// Write takes bytes. It never fails.
func (p *Plain) Write(text []byte) (int, error) {
	p.parser.feed(text, p)
	return len(text), nil
}

// Bytes returns the text so far. They are valid until the next Write.
func (p *Plain) Bytes() []byte { return p.buffer.Bytes() }

// Len is how much there is.
func (p *Plain) Len() int { return p.buffer.Len() }

func (p *Plain) lineEnd() {
	if b := p.buffer.Bytes(); len(b) > 0 && b[len(b)-1] != '\n' {
		p.buffer.WriteByte('\n')
	}
	p.cr = false
}

func (p *Plain) settle() {
	if p.cr {
		p.lineEnd()
	}
}

func (p *Plain) print(r rune) {
	p.settle()
	p.buffer.WriteRune(r)
}

func (p *Plain) control(c byte) {
	switch c {
	case '\r':
		p.cr = true
	case '\n', '\v', '\f':
		p.cr = false
		p.buffer.WriteByte('\n')
	case '\t':
		p.print('\t')
	case '\b':
		p.settle()
		if b := p.buffer.Bytes(); len(b) > 0 && b[len(b)-1] != '\n' && b[len(b)-1] < 0x80 {
			p.buffer.Truncate(len(b) - 1)
		}
	}
}

func (p *Plain) escape(_, final byte) {
	if final == 'D' || final == 'E' || final == 'M' || final == 'c' {
		p.lineEnd()
	}
}

func (p *Plain) sequence(_ bool, n [2]int, final byte) {
	switch final {
	case 'A', 'B', 'E', 'F', 'H', 'f', 'd', 'e', 'J', 'S', 'T', 'L', 'M':
		p.lineEnd()
	case 'C', 'a':
		for range min(max(n[0], 1), Columns) {
			p.print(' ')
		}
	}
}
