package standin_test

import (
	"testing"

	"freshseal/standin/demo"
)

// Sinks can be turned off as soon as they are on, as often as it takes to find them halfway.
func TestSinksAreTurnedOffAtOnce(t *testing.T) {
	for range 300 {
		s, err := demo.StartSinks("127.0.0.1", "", func(string, string, []byte) string { return "" })
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
