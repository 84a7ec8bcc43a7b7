package roster

import "slices"

// places is an order of the rows of a table by texts. It tells each row its place, so that whoever sorts compares
// numbers.
type places struct {
	compare func(x, y int32) int
	put     func(row, place int32)

	rows []int32        // in order
	came []int32        // to be put in
	out  map[int32]bool // to be taken out of rows first
}

// moved says that a row's place is another one, or that it has none yet.
func (p *places) moved(row int32, had bool) {
	if had {
		p.gone(row)
	}
	p.came = append(p.came, row)
}

// gone says that a row has no place any more.
func (p *places) gone(row int32) {
	if at := slices.Index(p.came, row); at >= 0 { // put in and taken out in one change
		p.came = slices.Delete(p.came, at, at+1)
		return
	}
	if p.out == nil {
		p.out = map[int32]bool{}
	}
	p.out[row] = true
}

// stale reports whether anything moved.
func (p *places) stale() bool { return len(p.came)+len(p.out) > 0 }

// settle brings the order up to date: what came is sorted and merged, so a small change of a large fleet costs little
// more than going through the places.
func (p *places) settle() {
	if len(p.out) > 0 {
		p.rows = slices.DeleteFunc(p.rows, func(row int32) bool { return p.out[row] })
	}
	slices.SortFunc(p.came, p.compare)
	merged := make([]int32, 0, len(p.rows)+len(p.came))
	from := 0
	for _, row := range p.came {
		at, _ := slices.BinarySearchFunc(p.rows[from:], row, p.compare)
		merged = append(append(merged, p.rows[from:from+at]...), row)
		from += at
	}
	p.rows, p.came, p.out = append(merged, p.rows[from:]...), nil, nil
	for place, row := range p.rows {
		p.put(row, int32(place))
	}
}

// bound returns the place of the first row that is not before what compare stands for, and whether that is equal to it.
func (p *places) bound(compare func(row int32) int) (place int64, exact bool) {
	at, exact := slices.BinarySearchFunc(p.rows, 0, func(row int32, _ int) int { return compare(row) })
	return int64(at), exact
}
