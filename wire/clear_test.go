package wire

import "testing"

// What boxes send is foreign: whatever it is, reading it ends, with a chain or with none.
func FuzzSeen(f *testing.F) {
	f.Add([]byte{22, 3, 3, 0, 10, 11, 0, 0, 6, 0, 0, 3, 0, 0, 0})
	f.Add([]byte{22, 3, 3, 0, 4, 2, 0, 0, 0, 21, 3, 3, 0, 2, 2, 40})
	f.Fuzz(func(t *testing.T, records []byte) {
		var reading Reading
		if chain := seen(records, &reading); len(chain) > maxChain {
			t.Fatalf("%d certificates", len(chain))
		}
	})
}
