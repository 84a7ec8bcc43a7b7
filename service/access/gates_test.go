package access_test

import (
	"testing"

	"freshseal/service/access"
)

// A place that is taken by a user who has one already is not a second one: each such place would be lost for good.
func TestAPlaceIsTakenOnce(t *testing.T) {
	s, _ := room(t)
	for range 200 { // many more than there are places
		place := &access.Place{}
		for range 3 {
			if err := s.Take(t.Context(), place, ""); err != nil {
				t.Fatal(err)
			}
		}
		place.Give()
		place.Give()
	}
}
