package fleet

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"freshseal/cli"
	"freshseal/cli/access"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

func (a *commands) deviceEdit() *cobra.Command {
	var c contract.DeviceChange
	var site, family, address, cluster, role, owner, notes string
	var tags, settings, nodes []string
	var links access.Flags
	edit := &cobra.Command{Use: "edit DEVICE", Short: "Change a device; only the given flags take effect",
		Args: cobra.ExactArgs(1)}
	edit.RunE = a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
		given := edit.Flags().Changed
		for flag, f := range map[string]struct {
			to   **string
			from *string
		}{
			"site": {&c.Site, &site}, "family": {&c.Family, &family}, "address": {&c.Address, &address},
			"cluster": {&c.Cluster, &cluster}, "cluster-role": {&c.ClusterRole, &role},
			"owner": {&c.Owner, &owner}, "notes": {&c.Notes, &notes},
		} {
			if given(flag) {
				*f.to = f.from
			}
		}
		if given("tag") {
			c.Tags = tags
		}
		var err error
		if c.Settings, err = pairs(settings); err != nil {
			return err
		}
		if given("node") {
			if c.Nodes, err = nodesOf(nodes); err != nil {
				return err
			}
		}
		if err := links.Edit(a.App, edit.Flags(), args[0], &c); err != nil {
			return err
		}
		var now, d contract.Device
		if err := client.Do(ctx, "GET", cli.V1+"/devices"+cli.Item(args[0]), nil, &now); err != nil {
			return err
		}
		if err := client.Change(ctx, "PATCH", cli.V1+"/devices"+cli.Item(args[0]), now.Revision, c, &d); err != nil {
			return err
		}
		return printDevice(a, d)
	})
	f := edit.Flags()
	f.StringVar(&site, "site", "", "the site")
	f.StringVar(&family, "family", "", "the procedure for it")
	f.StringVar(&address, "address", "", "IP address or host name")
	f.StringVar(&cluster, "cluster", "", "the cluster that it belongs to")
	f.StringVar(&role, "cluster-role", "", "active, standby or member")
	f.StringArrayVar(&nodes, "node", nil, "NAME=ADDRESS of a node; may be given again; replaces all nodes")
	links.Flags(f)
	f.StringVar(&owner, "owner", "", "the owner")
	f.StringVar(&notes, "notes", "", "notes")
	f.StringArrayVar(&tags, "tag", nil, "a tag; may be given again; replaces all tags")
	f.StringArrayVar(&settings, "setting", nil, "NAME=VALUE for a setting of the procedure; NAME= removes it; may "+
		"be given again")
	return edit
}

func (a *commands) deviceImport() *cobra.Command {
	var t contract.ImportTerms
	var columns []string
	c := &cobra.Command{
		Use: "import FILE", Short: "Add and change devices as a CSV file or an Excel workbook says: all of it, " +
			"or nothing", Args: cobra.ExactArgs(1),
		Long: "Add and change devices as a file says, all of it or nothing. An empty cell leaves a field as it " +
			"is, and a hyphen empties it. A second import of the same file changes nothing; no device and no slot " +
			"is removed.",
		Example: "  freshseal device import fleet.csv --dry-run\n  freshseal device import fleet.xlsx --sheet " +
			"Appliances\n  freshseal device import fleet.csv --column name=Hostname --column address=\"Mgmt IP\"",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			text, err := cli.ReadFile(args[0], 32<<20)
			if err != nil {
				return err
			}
			if t.CSV, t.XLSX = string(text), nil; bytes.HasPrefix(text, []byte("PK\x03\x04")) {
				t.CSV, t.XLSX = "", text
			}
			if t.Columns, err = cli.PairsOf("--column", columns); err != nil {
				return err
			}
			var done contract.Import
			if err := client.Do(ctx, "POST", cli.V1+"/imports", t, &done); err != nil {
				return err
			}
			if err := printImport(a, done, t.DryRun); err != nil {
				return err
			}
			if done.Wrong > 0 {
				return cli.FoundWrong
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&t.DryRun, "dry-run", false, "show what would be done and change nothing")
	c.Flags().BoolVar(&t.Partial, "partial", false, "take the valid lines although others are invalid")
	c.Flags().StringVar(&t.Sheet, "sheet", "", "of a workbook (the first)")
	c.Flags().StringArrayVar(&columns, "column", nil, "OURS=THEIRS for a column with another name in the file; may "+
		"be given again")
	return c
}

// mostShown is how many lines a dry run shows one by one.
const mostShown = 100

// printImport tells what became of a file: for people the wrong lines in full,
// and of the others how many.
func printImport(a *commands, done contract.Import, dryRun bool) error {
	if a.As != "table" {
		t := cli.Table{Head: []string{"line", "device", "what", "why", "next"}}
		for _, l := range done.Lines {
			t.Add(fmt.Sprint(l.Line), l.Device, l.What, l.Why, cli.Advice(l.Next, l.Actions))
		}
		return a.Print(done, t)
	}
	what := map[string]int{}
	for _, l := range done.Lines {
		what[l.What]++
		if dryRun && l.What == "add" && what["add"] <= mostShown {
			cli.Put(a.Out, "line %d would add %s\n", l.Line, l.Device)
		}
		if l.What == "change" && what["change"] <= mostShown {
			cli.Put(a.Out, "line %d, %s:\n", l.Line, l.Device)
			for _, d := range l.Changes {
				cli.Put(a.Out, "  %s: %q → %q\n", d.What, d.From, d.To)
			}
		}
		if l.What == "error" {
			cli.Put(a.Out, "line %d, %s: %s\n  next: %s\n", l.Line, l.Device, l.Why, cli.Advice(l.Next, l.Actions))
		}
	}
	cli.Put(a.Out, "%s to add, %d to change, %d the same, %d wrong\n", cli.Count(what["add"], "line"), what["change"],
		what["same"], what["error"])
	switch {
	case done.Done && done.Added+done.Changed == 0:
		cli.Putln(a.Out, "the inventory is as the file says; nothing was changed")
	case done.Done:
		cli.Put(a.Out, "%s added, %d changed; read them now: freshseal sweep\n", cli.Count(done.Added, "device"),
			done.Changed)
	case dryRun:
		cli.Putln(a.Out, "nothing was changed: this was a dry run")
	default:
		cli.Put(a.Out, "nothing was changed: %s wrong; correct them, or take the others with --partial\n",
			cli.Count(done.Wrong, "line"))
	}
	return nil
}

func (a *commands) deviceExport() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "export", Short: "Write all devices as CSV or as an Excel workbook, without secrets", Args: cobra.NoArgs,
		Example: "  freshseal device export > fleet.csv\n  freshseal device export --out fleet.xlsx",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			form := "csv"
			if strings.HasSuffix(out, ".xlsx") {
				form = "xlsx"
			}
			return a.SaveAs(ctx, client, cli.V1+"/export?form="+form, out)
		}),
	}
	c.Flags().StringVar(&out, "out", "-", "the file; one called .xlsx is a workbook")
	return c
}
