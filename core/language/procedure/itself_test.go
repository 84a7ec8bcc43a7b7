package procedure_test

import (
	"strings"
	"testing"

	"freshseal/core/language/procedure"
)

// itself is a family whose devices sign for themselves, around some lines of it.
func itself(traits, survey, activate string) string {
	return "procedure: ours\ntitle: Ours\nlinks: [ssh]\nsettings:\n  label: {about: a text, default: y}\ntraits: " +
		traits + "\nsteps:\n  survey:\n    - {step: see, run: id}\n" + survey + "  activate:\n    - {step: renew, " +
		"run: \"boxctl renew {{label}}\", undo: none, because: it keeps none before}\n" + activate
}

// A device that signs for itself gets no request and nothing of a certificate, and tells its authority.
func TestTheCheckOfDevicesThatSignForThemselves(t *testing.T) {
	const issuer = "    - {step: ask, run: boxctl authority, capture: issuer}\n"
	for _, c := range []struct{ about, text, says string }{
		{"as it should be", itself("{signer: device, restart_limit: 5s}", issuer, ""), ""},
		{"its authority told in activate",
			itself("{signer: device}", "", issuer[:len(issuer)-2]+", undo: nothing}\n"), ""},
		{"no authority", itself("{signer: device}", "", ""), "cannot be proven who signed the new certificate"},
		{"an authority only sometimes", itself("{signer: device}", "    - {step: ask, run: boxctl authority, "+
			"capture: issuer, with: label}\n", ""), "captured only sometimes"},
		{"key types", itself("{signer: device, key_types: [rsa-2048]}", issuer, ""), "decides itself what " +
			"key it makes"},
		{"a key that is made here", itself("{signer: device, key_made_by: service}", issuer, ""),
			"makes its key itself"},
		{"another signer", itself("{signer: desk}", issuer, ""), "device"},
		{"no key types and no signer", itself("{restart_limit: 5s}", issuer, ""), "traits has no key_types"},
		{"a request", strings.Replace(itself("{signer: device}", issuer, ""), "  activate:",
			"  request:\n    - {step: ask, run: id}\n  activate:", 1), "no request is made where the device is its " +
			"own signer"},
		{"a pack", strings.Replace(itself("{signer: device}", issuer, ""), "traits:", "packs: {all: {about: "+
			"x}}\ntraits:", 1), "nothing is sent to a device that is its own signer"},
		{"the new chain", itself("{signer: device}", issuer, "    - {file: /etc/x, holds: leaf_first}\n"),
			"{{leaf_first}} is never there where the device is its own signer"},
		{"the new key", itself("{signer: device}", issuer, "    - {file: /etc/x, holds: new_key}\n"), "never there"},
		{"the new fingerprint in a command", itself("{signer: device}", issuer, "    - {step: say, run: \"echo "+
			"{{new_sha256}}\", undo: nothing}\n"), "never there"},
		{"the authority in a command", itself("{signer: device}", issuer, "    - {step: say, run: \"echo "+
			"{{issuer}}\", undo: nothing}\n"), "a file's content"},
		{"the authority in a file", itself("{signer: device}", issuer, "    - {file: /etc/x, holds: issuer}\n"), ""},
	} {
		t.Run(c.about, func(t *testing.T) {
			p, faults := procedure.Parse([]byte(c.text))
			said := ""
			for _, f := range faults {
				if !f.Warning {
					said += f.What + "; " + f.Instead + "\n"
				}
			}
			if c.says == "" && (said != "" || !p.Traits.SignsItself || len(p.OneWay()) != 1) ||
				!strings.Contains(said, c.says) {
				t.Errorf("the check says %q", said)
			}
		})
	}
}

// A value that is called issuer is as any other where somebody else signs.
func TestAnIssuerIsAPlainCaptureElsewhere(t *testing.T) {
	text := frame("    - {step: ask, run: boxctl authority, undo: nothing, capture: issuer}\n    - {step: say, " +
		"run: \"echo {{issuer}}\", undo: nothing}\n")
	_, faults := procedure.Parse([]byte(text))
	for _, f := range faults {
		if !f.Warning {
			t.Errorf("%+v", f)
		}
	}
}
