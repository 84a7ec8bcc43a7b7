
// Boxes dress their requests up: with a mark in front, and blank lines between all lines.
func TestARequestIsReadInOddDress(t *testing.T) {
	key, err := request.NewKey(request.ECDSAP256)
	if err != nil {
		t.Fatal(err)
	}
	made, err := request.Make(request.Plan{Key: request.ECDSAP256, Names: []string{"a.example"}}.Complete(), key)
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"\ufeff" + strings.ReplaceAll(string(made.PEM()), "\n", "\r\n\r\n"), "Your request:\n\n" + strings.ReplaceAll(string(made.PEM()), "\n", "\n  "), string(made.Raw)} {
		if got, err := request.Parse([]byte(text)); err != nil || got.SHA256() != made.SHA256() {
			t.Errorf("%.60q: %v", text, err)
		}
	}
}
