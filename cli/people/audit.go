package people

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/auditfile"

	"github.com/spf13/cobra"
)

func (a *commands) audit() *cobra.Command {
	var by contract.AuditFilter
	most := 200
	list := &cobra.Command{
		Use: "list", Short: "List who did what and when, newest first", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			query := url.Values{"limit": {strconv.Itoa(most)}}
			for name, value := range map[string]string{"who": by.Who, "text": by.Text, "from": by.From,
				"until": by.Until} {
				if value != "" {
					query.Set(name, value)
				}
			}
			var page struct {
				Items []contract.AuditEntry `json:"items"`
			}
			if err := client.Do(ctx, "GET", cli.V1+"/audit?"+query.Encode(), nil, &page); err != nil {
				return err
			}
			entries := page.Items
			t := cli.Table{Head: []string{"id", "at", "who", "what", "about"}}
			if a.As != "table" {
				t.Head = append(t.Head, "through", "address")
			}
			for _, e := range entries {
				t.Add([]any{fmt.Sprint(e.ID), e.At, e.Who, e.What, e.About, e.Through, e.Address}[:len(t.Head)]...)
			}
			return a.Print(entries, t)
		}),
	}
	list.Flags().StringVar(&by.Who, "who", "", "only what this user did")
	list.Flags().StringVar(&by.Text, "text", "", "only entries with this text in what was done, or to what")
	list.Flags().StringVar(&by.From, "from", "", "only from this day on, such as 2026-03-01")
	list.Flags().StringVar(&by.Until, "until", "", "only up to this day")
	list.Flags().IntVar(&most, "most", most, "how many entries, at most 1000")
	var noted string
	verify := &cobra.Command{
		Use:   "verify [FILE…]",
		Short: "Verify that no entry was changed or removed: in the service, or in exported files, without it",
	}
	verify.RunE = func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return a.verifyFiles(args, noted)
		}
		return a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var v contract.Verification
			if err := client.Do(ctx, "GET", cli.V1+"/audit/verification?"+url.Values{"head": {noted}}.Encode(), nil,
				&v); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"entries", "whole", "fault"}}
			t.Add(v.Entries, cli.Yes(v.Whole), v.Fault)
			if err := a.Print(v, t); err != nil {
				return err
			}
			if !v.Whole {
				return cli.FoundWrong
			}
			return nil
		})(c, args)
	}
	verify.Flags().StringVar(&noted, "head", "", "ID:HASH, a head that was noted earlier and must still be there")
	head := &cobra.Command{
		Use: "head", Short: "Print the newest entry as ID:HASH, to be noted elsewhere", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var h contract.Head
			if err := client.Do(ctx, "GET", cli.V1+"/audit/head", nil, &h); err != nil {
				return err
			}
			if a.As == "json" {
				return a.Print(h, cli.Table{})
			}
			cli.Put(a.Out, "%d:%s\n", h.ID, h.Hash)
			return nil
		}),
	}
	return cli.Noun("audit", "The log of who did what and when", list, a.auditExport(), a.auditStream(), verify, head)
}

// auditStream shows where the audit log is sent to, and with a flag sets it.
func (a *commands) auditStream() *cobra.Command {
	var to contract.NewAuditStream
	c := &cobra.Command{
		Use:   "stream",
		Short: "Show where the audit log is sent to as it grows, or set it",
		Args:  cobra.NoArgs,
	}
	c.RunE = a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
		var is contract.AuditStream
		if err := client.Do(ctx, "GET", cli.V1+"/audit/stream", nil, &is); err != nil {
			return err
		}
		set := is.NewAuditStream
		for name, field := range map[string]struct{ to, from *string }{"to": {&set.Channel, &to.Channel},
			"head-to": {&set.HeadChannel, &to.HeadChannel}} {
			if c.Flags().Changed(name) {
				if *field.to = *field.from; *field.from == "nobody" {
					*field.to = ""
				}
			}
		}
		if set != is.NewAuditStream {
			if err := client.Do(ctx, "PUT", cli.V1+"/audit/stream", set, &is); err != nil {
				return err
			}
		}
		t := cli.Table{Head: []string{"to", "sent", "newest", "head to", "error"}}
		t.Add(is.Channel, is.Sent, is.Newest, is.HeadChannel, is.Error)
		return a.Print(is, t)
	})
	c.Flags().StringVar(&to.Channel, "to", "", "channel of syslog that gets every entry, or nobody")
	c.Flags().StringVar(&to.HeadChannel, "head-to", "", "channel that is told the newest entry each day, or nobody")
	return c
}

func (a *commands) auditExport() *cobra.Command {
	var by contract.AuditFilter
	var out string
	c := &cobra.Command{
		Use:   "export --out FILE",
		Short: "Export the entries of a period as JSON lines, which are verified without the service",
		Args:  cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			return a.SaveAs(ctx, client, cli.V1+"/audit.jsonl?"+url.Values{"from": {by.From},
				"until": {by.Until}}.Encode(), out)
		}),
	}
	c.Flags().StringVar(&by.From, "from", "", "from this day on, such as 2026-03-01, or a time in RFC 3339")
	c.Flags().StringVar(&by.Until, "until", "", "up to this day, or before a time in RFC 3339")
	c.Flags().StringVar(&out, "out", "", "the new file (- for standard output)")
	c.MarkFlagRequired("out")
	return c
}

// verifyFiles verifies exported files, that one joins the other, and that a head which was noted is in them.
func (a *commands) verifyFiles(names []string, noted string) error {
	id, hash, isHead := strings.Cut(noted, ":")
	number, err := strconv.ParseInt(id, 10, 64)
	if noted != "" && (!isHead || err != nil || number < 1) {
		return cli.Misuse(fmt.Sprintf("%q is not a head", noted), "", "give ID:HASH, as a head was noted")
	}
	found := []contract.FileVerification{}
	seen := "" // the hash of the entry whose head was noted
	var before auditfile.Part
	for i, name := range names {
		v, part, err := verified(name, func(e auditfile.Entry) {
			if e.ID == number {
				seen = e.Hash
			}
		})
		if err != nil {
			return err
		}
		if v.Whole && i > 0 && (part.First != before.Last+1 || part.Before != before.Chain) {
			v.Whole, v.Fault = false, fmt.Sprintf("it does not follow entry %d of the file before", before.Last)
		}
		before, found = part, append(found, v)
	}
	if noted != "" && seen != hash {
		last := &found[len(found)-1]
		last.Whole, last.Fault = false, "entry "+id+" has another hash than the head that was noted"
		if seen == "" {
			last.Fault = "entry " + id + ", whose head was noted, is not there"
		}
	}
	return a.printFiles(found)
}

// verified verifies one file.
func verified(name string, look func(auditfile.Entry)) (contract.FileVerification, auditfile.Part, error) {
	v := contract.FileVerification{File: name}
	f, err := os.Open(name)
	if err != nil {
		return v, auditfile.Part{}, cli.Failed("the file cannot be read", err.Error(), "name an exported file")
	}
	defer f.Close()
	part, err := auditfile.Verify(f, look)
	v.First, v.Last, v.Entries, v.Whole = part.First, part.Last, part.Entries, err == nil
	if errors.As(err, new(auditfile.Fault)) {
		v.Fault, err = err.Error(), nil
	} else if err != nil {
		err = cli.Failed("the file cannot be read", err.Error(), "name an exported file")
	}
	return v, part, err
}

// printFiles prints what became of files; the error says whether one of them is not whole.
func (a *commands) printFiles(found []contract.FileVerification) error {
	t := cli.Table{Head: []string{"file", "first", "last", "entries", "whole", "fault"}}
	for _, v := range found {
		t.Add(v.File, v.First, v.Last, v.Entries, cli.Yes(v.Whole), v.Fault)
	}
	if err := a.Print(found, t); err != nil {
		return err
	}
	whole := true
	for _, v := range found {
		if whole = whole && v.Whole; a.As == "table" && v.Fault != "" { // the table may have cut it
			cli.Put(a.Out, "%s: %s\n", v.File, v.Fault)
		}
	}
	if !whole {
		return cli.FoundWrong
	}
	return nil
}
