package signing

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"mime/multipart"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/judge"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"

	"github.com/spf13/cobra"
)

func (a *commands) parcel() *cobra.Command {
	return cli.Noun("parcel", "Bundles of requests that go out to a signer", a.parcelPack(), a.parcelList(),
		a.parcelGet(), a.parcelHand())
}

func (a *commands) parcelPack() *cobra.Command {
	var signer, out string
	c := &cobra.Command{
		Use: "pack [REPLACEMENT…] --signer NAME --out FILE", Short: "Pack the pending requests for a signer: all, or " +
			"those of the named replacements",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, only []string) error {
			if _, err := os.Stat(out); err == nil {
				return cli.Misuse(out+" already exists", "", "name another file with --out")
			}
			var p contract.Parcel
			if err := client.Do(ctx, "POST", cli.V1+"/parcels",
				map[string]any{"signer": signer, "replacements": only}, &p); err != nil {
				return err
			}
			return a.fetchParcel(ctx, client, p.ID, out, fmt.Sprintf("%s: %s in %s; list.txt in it tells the "+
				"signer what to do\n", p.ID, cli.Count(p.Requests, "request"), out))
		}),
	}
	c.Flags().StringVar(&signer, "signer", "desk", "the signer")
	c.Flags().StringVar(&out, "out", "", "the zip file to write")
	c.MarkFlagRequired("out")
	return c
}

func (a *commands) fetchParcel(ctx context.Context, client *cli.Client, id, out, say string) error {
	answer, err := client.Send(ctx, "GET", cli.V1+"/parcels"+cli.Item(id, "archive"), nil, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	content, err := io.ReadAll(answer.Body)
	if err == nil {
		err = os.WriteFile(out, content, 0o644)
	}
	if err != nil {
		return cli.Failed("the parcel "+id+" was packed and not saved", err.Error(), "freshseal parcel get "+id+
			" --out FILE")
	}
	cli.Put(a.Out, "%s\n", cli.Lines("", say))
	return nil
}

func (a *commands) parcelGet() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "get ID --out FILE", Short: "Download a parcel again", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return a.fetchParcel(ctx, client, args[0], out, "saved in "+out+"\n")
		}),
	}
	c.Flags().StringVar(&out, "out", "", "the zip file to write")
	c.MarkFlagRequired("out")
	return c
}

func (a *commands) parcelList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List parcels, newest first", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			parcels, err := cli.ListOf[contract.Parcel](ctx, client, "/parcels")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"id", "signer", "packed", "requests", "open", "state", "back_by"}}
			var reminders []string
			for _, p := range parcels {
				state := p.State
				if p.Late {
					state += ", late"
					reminders = append(reminders, p.ID+": "+p.Reminder)
				}
				t.Add(p.ID, p.Signer, p.PackedAt, p.Requests, p.Open, cli.Word(state), cli.OnDay(p.BackBy))
			}
			if err := a.Print(parcels, t); err != nil || a.As != "table" {
				return err
			}
			for _, r := range reminders {
				cli.Putln(a.Out, r)
			}
			return nil
		}),
	}
}

func (a *commands) parcelHand() *cobra.Command {
	var h contract.Handover
	c := &cobra.Command{
		Use: "hand PARCEL --to WHOM", Short: "Record who received a parcel, and its reference number",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var p contract.Parcel
			if err := client.Do(ctx, "POST", cli.V1+"/parcels"+cli.Item(args[0], "handover"), h, &p); err != nil {
				return err
			}
			cli.Put(a.Out, "%s is with %s; back by %s\n", p.ID, p.HandedTo, cli.Date(p.BackBy))
			return nil
		}),
	}
	c.Flags().StringVar(&h.To, "to", "", "who received it")
	c.Flags().StringVar(&h.Reference, "reference", "", "the signer's reference number")
	c.MarkFlagRequired("to")
	return c
}

func (a *commands) intake() *cobra.Command {
	var terms contract.IntakeTerms
	var passphraseFiles []string
	c := &cobra.Command{
		Use: "intake FILE…|DIR|-", Short: "Match the files that a signer sent with the pending " +
			"requests; any format and order",
		Args: cobra.MinimumNArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			files, err := a.readPile(args)
			if err != nil {
				return err
			}
			if terms.Passphrases, err = a.passphrases(passphraseFiles); err != nil {
				return err
			}
			in, err := sendPile(ctx, client, files, terms)
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"leaf", "replacement", "slot", "accepted", "why"}}
			for _, answer := range in.Answers {
				t.Add(answer.Leaf, answer.Replacement, answer.Device+"/"+answer.Slot, fmt.Sprint(answer.Accepted),
					answer.Why)
			}
			if a.As != "table" {
				err = a.Print(in, t)
			} else {
				a.printIntake(in)
			}
			if err == nil && intakeWrong(in) {
				return cli.FoundWrong
			}
			return err
		}),
	}
	passphraseFlag(c, &passphraseFiles)
	c.Flags().BoolVar(&terms.Keys, "key", false, "take the private keys among the files in, for devices that are "+
		"given their key; each is sealed until its device has it")
	c.Flags().BoolVar(&terms.TrustRoots, "trust-roots", false, "add the roots among the files to the trusted roots "+
		"of the fleet")
	return c
}

func intakeWrong(in contract.Intake) bool {
	for _, answer := range in.Answers {
		if !answer.Accepted {
			return true
		}
	}
	return len(in.Answers) == 0
}

func (a *commands) printIntake(in contract.Intake) {
	printPile(a.Out, in.Files)
	for _, answer := range in.Answers {
		cli.Put(a.Out, "\n%s", answer.Leaf)
		if answer.Replacement != "" {
			cli.Put(a.Out, " answers %s (%s/%s)", answer.Replacement, answer.Device, answer.Slot)
		}
		cli.Putln(a.Out)
		cli.DrawChain(a.Out, answer.Chain)
		for _, t := range answer.Trust {
			if !t.Trusted && t.TrustGroup != judge.Fleet {
				cli.Put(a.Out, "  not trusted by \"%s\": root \"%s\" is missing\n", t.TrustGroup, t.Lacks)
			}
		}
		cli.PrintFindings(a.Out, "  ", answer.Findings)
		switch {
		case answer.Doubtful:
			cli.Put(a.Out, "  NOT accepted yet: %s\n  next: %s\n", answer.Why, cli.Advice(answer.Next, answer.Actions))
		case answer.Accepted:
			cli.Put(a.Out, "  accepted; it goes on by itself: freshseal replacement watch %s\n", answer.Replacement)
		default:
			cli.Put(a.Out, "  NOT accepted: %s\n  next: %s\n", answer.Why, cli.Advice(answer.Next, answer.Actions))
		}
	}
	if len(in.Answers) == 0 {
		cli.Put(a.Out, "\nno leaf is in this pile, so no request is answered\n")
		cli.Putln(a.Out, "  next: give the file with the signed certificate itself; intermediates are kept for "+
			"when it comes")
	}
}

func printPile(w io.Writer, files []pile.Account) {
	for _, f := range files {
		cli.Putln(w, f.Name)
		for _, i := range f.Holds {
			said := i.Subject
			if said != "" && i.Note != "" {
				said += ": "
			}
			cli.Put(w, "  %-15s %s\n", i.Kind, said+i.Note)
		}
	}
}

// readPile reads files, folders (with all that is in them) and - for standard input.
func (a *commands) readPile(args []string) ([]pile.File, error) {
	debug.SetGCPercent(25) // what is read is kept until it is judged: without this, as much again would be waste
	var out []pile.File
	total := int64(0)
	add := func(name string, r io.Reader, size int64) error {
		room := pile.MaxBytes - total + 1
		// grown by doubling it would take thrice its size
		content := bytes.NewBuffer(make([]byte, 0, min(size, room)+bytes.MinRead))
		_, err := content.ReadFrom(io.LimitReader(r, room))
		if total += int64(content.Len()); total > pile.MaxBytes {
			return cli.Failed("the pile was not read", pile.ErrTooLarge.Error(), "split it")
		}
		out = append(out, pile.File{Name: name, Content: content.Bytes()})
		return err
	}
	for _, arg := range args {
		if arg == "-" {
			if err := add("standard input", a.In, 0); err != nil {
				return nil, err
			}
			continue
		}
		err := filepath.WalkDir(arg, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			f, err := os.Open(path)
			if err != nil {
				return err
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			return add(path, f, info.Size())
		})
		if err != nil {
			if t, ok := err.(*cli.Trouble); ok {
				return nil, t
			}
			return nil, cli.Failed(arg+" cannot be read", err.Error(), "name files that are there")
		}
	}
	return out, nil
}

func sendPile(ctx context.Context, client *cli.Client, files []pile.File,
	terms contract.IntakeTerms) (contract.Intake, error) {
	var in contract.Intake
	var body bytes.Buffer
	form := multipart.NewWriter(&body)
	for _, f := range files {
		part, err := form.CreateFormFile("file", f.Name)
		if err != nil {
			return in, err
		}
		if _, err := part.Write(f.Content); err != nil {
			return in, err
		}
	}
	if err := form.WriteField("keys", fmt.Sprint(terms.Keys)); err != nil {
		return in, err
	}
	if err := form.WriteField("trust_roots", fmt.Sprint(terms.TrustRoots)); err != nil {
		return in, err
	}
	for _, passphrase := range terms.Passphrases {
		if err := form.WriteField("passphrase", passphrase); err != nil {
			return in, err
		}
	}
	if err := form.Close(); err != nil {
		return in, err
	}
	answer, err := client.Send(ctx, "POST", cli.V1+"/intakes",
		http.Header{"Content-Type": {form.FormDataContentType()}},
		&body)
	if err != nil {
		return in, err
	}
	defer answer.Body.Close()
	return in, json.NewDecoder(answer.Body).Decode(&in)
}

func (a *commands) unmatched() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List certificates that match no pending request", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Unmatched](ctx, client, "/unmatched")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"leaf", "sha256", "came", "for"}}
			for _, each := range all {
				near := "no similar request"
				if len(each.Near) > 0 {
					near = each.Near[0].String()
				}
				t.Add(each.Certificate.Name, cli.Digest(each.Certificate.SHA256), each.CameAt, near)
			}
			return a.Print(all, t)
		}),
	}
	remove := &cobra.Command{
		Use: "remove SHA256", Short: "Delete a certificate that matches no pending request; the first digits of " +
			"its SHA-256 are enough", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			all, err := cli.ListOf[contract.Unmatched](ctx, client, "/unmatched")
			if err != nil {
				return err
			}
			var found []string
			for _, each := range all {
				if strings.HasPrefix(each.Certificate.SHA256, strings.ToLower(args[0])) {
					found = append(found, each.Certificate.SHA256)
				}
			}
			if len(found) != 1 {
				return cli.Failed("nothing was deleted", fmt.Sprintf("%d of these certificates begin with %q",
					len(found),
					args[0]), "see: freshseal unmatched list")
			}
			return client.Do(ctx, "DELETE", cli.V1+"/unmatched"+cli.Item(found[0]), nil, nil)
		}),
	}
	return cli.Noun("unmatched", "Certificates that match no pending request", list, remove)
}

func rootTable(roots []cert.Facts) cli.Table {
	t := cli.Table{Head: []string{"root", "ends", "sha256"}}
	for _, r := range roots {
		t.Add(r.Name, cli.OnDay(&r.NotAfter), cli.Fingerprint(r.SHA256))
	}
	return t
}
