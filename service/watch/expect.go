package watch

import "slices"

// Expect says that a replacement works on slots: until Unexpect, they serve one of these leaves (SHA-256), or nothing, and that
// is no alarm. Their conditions stay as they were meanwhile; a third certificate is told of at once.
func (s *Service) Expect(slots []int64, leaves []string) {
	leaves = slices.DeleteFunc(slices.Clone(leaves), func(leaf string) bool { return leaf == "" })
	for _, id := range slots {
		s.expected.Store(id, leaves)
	}
}

// Unexpect says that the work on slots is over; they are to be judged anew after it.
func (s *Service) Unexpect(slots []int64) {
	for _, id := range slots {
		s.expected.Delete(id)
	}
}

// expects reports whether what a slot serves (nothing: the empty text) is the doing of a replacement that is under way.
func (s *Service) expects(slot int64, leaf string) bool {
	leaves, under := s.expected.Load(slot)
	return under && (leaf == "" || slices.Contains(leaves.([]string), leaf))
}
