package procedure_test

import (
	"fmt"
	"strings"
	"testing"

	"freshseal/core/language/procedure"
)

// helped is a family in which another device may make key and request.
func helped(traits, request, activate string) string {
	return "procedure: ours\ntitle: x\nlinks: [ssh]\nsettings:\n  helper: {kind: device, about: x}\n  server: " +
		"{kind: choice, choices: [a, b], about: x}\ntraits: {key_types: [ecdsa-p256]" + traits +
		"}\nsteps:\n  request:\n" + request + "  activate:\n" + activate
}

const (
	madeThere = "    - {use: key-and-request-by-openssl, on: helper, with: helper}\n    - {step: take it, on: " +
		"helper, with: helper, fetch: \"{{work}}/key.pem\", capture: {there: {secret: true}}}\n"
	given   = "    - {file: /k, holds: private_key, without: helper}\n"
	fetched = "    - {step: there, file: /k, holds: there, with: helper}\n"
)

// Who makes the key is said by a setting; what is not there then is told before a device is
// touched.
func TestWhoMakesTheKeyIsChecked(t *testing.T) {
	for _, c := range []struct{ about, text, says string }{
		{"either", helped(", key_made_by: either", madeThere, given+fetched), ""},
		{"by a word of a choice", helped(", key_made_by: either", "    - {use: key-and-request-by-openssl, with: "+
			"{server: a}}\n", "    - {file: /k, holds: private_key, with: {server: b}}\n    - {step: own, file: "+
			"/k, holds: new_key, with: {server: a}}\n"), ""},
		{"never by Fresh Seal", helped(", key_made_by: either", "    - use: key-and-request-by-openssl\n",
			"    - {file: /k, holds: new_key}\n"), "the request is always captured"},
		{"given where a helper made it", helped(", key_made_by: either", madeThere, fetched+"    - {file: /l, "+
			"holds: private_key}\n"), "only where Fresh Seal makes the key"},
		{"the device's own file, where the helper has it",
			helped(", key_made_by: either", madeThere, fetched+"    - {file: /l, holds: new_key}\n"),
			"is on the helper"},
		{"fetched only sometimes",
			helped(", key_made_by: either", madeThere, given+"    - {file: /l, holds: there}\n"),
			"captured only where “with: helper” holds"},
		{"a word that it never is", helped(", key_made_by: either", madeThere, given+"    - {file: /l, holds: "+
			"there, with: [helper, {server: c}]}\n"), `"server" is never "c"`},
		{"work on the helper later", helped(", key_made_by: either", madeThere, given+fetched+
			"    - {run: boxctl, on: helper, undo: nothing}\n"), "only makes key and request"},
		{"a file elsewhere on the helper", helped(", key_made_by: either", madeThere+"    - {file: /etc/x, holds: "+
			"request_config, on: helper}\n", given+fetched), "in the work folder alone"},
	} {
		_, faults := procedure.Parse([]byte(c.text))
		if said := fmt.Sprint(faults); procedure.Refused(faults) != (c.says != "") || !strings.Contains(said, c.says) {
			t.Errorf("%s: %v", c.about, faults)
		}
	}
	p, _ := procedure.Parse([]byte(helped(", key_made_by: either", madeThere, given+fetched)))
	for helper, givenBy := range map[string]bool{"": true, "other": false} {
		scope, err := procedure.NewScope(procedure.Material{Procedure: p}, map[string]string{"helper": helper}, nil)
		if err != nil || scope.Procedure().Traits.KeyGiven != givenBy {
			t.Errorf("helper %q: Fresh Seal makes the key: %v, %v", helper, scope.Procedure().Traits.KeyGiven, err)
		}
	}
}
