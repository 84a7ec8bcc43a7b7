package library_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
)

// A folder may hold parts of its own. What a procedure consists of is kept with
// them, so that a replacement goes on by the steps that it began with.
func TestAFolderHasPartsOfItsOwn(t *testing.T) {
	const family = "procedure: quay\ntitle: A gateway\nlinks: [ssh]\nsettings:\n  reload: {kind: command, about: " +
		"reloads it, default: gatectl reload}\n" +
		"traits: {key_types: [ecdsa-p256], restart_limit: 5s}\nsteps:\n  request:\n    - use: " +
		"key-and-request-by-openssl\n  activate:\n    - file: /etc/gate/chain.pem\n      holds: leaf_first\n    - " +
		"use: reload-twice\n"
	const part = "part: reload-twice\nabout: some gates need it twice\nsteps:\n  - {step: once, run: " +
		"\"{{reload}}\", undo: again}\n  - {step: twice, run: \"{{reload}} --again\", undo: again}\n"
	folder := fstest.MapFS{
		"quay.procedure.yaml":                  {Data: []byte(family)},
		"reload-twice.part.yaml":               {Data: []byte(part)},
		"key-and-request-by-openssl.part.yaml": {Data: []byte(part)},
		"reload.yaml":                          {Data: []byte(part)},
	}
	all, notes, err := library.Load(folder)
	if err != nil || !all["quay"].Usable() {
		t.Fatal(err, all["quay"].Why())
	}
	if said := strings.Join(notes, "\n"); len(notes) != 2 || !strings.Contains(said, "a built-in part is called") ||
		!strings.Contains(said, "parts in .part.yaml") {
		t.Errorf("what is passed over: %s", said)
	}
	again, err := library.Read(all["quay"].Text())
	if err != nil || len(again.Steps[procedure.Activate]) != 3 || again.YAML != family ||
		again.Text() != all["quay"].Text() {
		t.Errorf("read from what was kept: %v, %+v", err, again.Steps[procedure.Activate])
	}
	if plain := library.Builtin()["web-files-ssh"]; plain.Text() != plain.YAML {
		t.Error("a procedure with built-in parts alone is not kept as its text")
	}

	folder["reload-twice.part.yaml"].Data = []byte(strings.Replace(part, "undo: again", "unda: again", 1))
	all, _, err = library.Load(folder)
	if err != nil || all["quay"].Usable() || !strings.Contains(all["quay"].Why(), "the part reload-twice") {
		t.Errorf("a faulty part: %v, %s", err, all["quay"].Why())
	}
	delete(folder, "reload-twice.part.yaml")
	if all, _, _ = library.Load(folder); all["quay"].Usable() ||
		!strings.Contains(all["quay"].Why(), `no part is called "reload-twice"`) {
		t.Errorf("a part that is gone: %s", all["quay"].Why())
	}
}
