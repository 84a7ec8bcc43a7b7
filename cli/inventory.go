package cli

import (
	"context"
	"fmt"

	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) deviceEdit() *cobra.Command {
	var c service.DeviceChange
	var site, family, address, user, credential, hostKey, cluster, role, owner, notes, passwordFile string
	var port int
	var old bool
	var tags, settings []string
	edit := &cobra.Command{Use: "edit DEVICE", Short: "Change a device; what is not named stays as it is", Args: cobra.ExactArgs(1)}
	edit.RunE = a.calling(func(ctx context.Context, client *client, args []string) error {
		given := edit.Flags().Changed
		for flag, f := range map[string]struct {
			to   **string
			from *string
		}{
			"site": {&c.Site, &site}, "family": {&c.Family, &family}, "address": {&c.Address, &address}, "ssh-user": {&c.SSHUser, &user}, "credential": {&c.Credential, &credential}, "cluster": {&c.Cluster, &cluster}, "cluster-role": {&c.ClusterRole, &role},
			"host-key": {&c.HostKey, &hostKey}, "owner": {&c.Owner, &owner}, "notes": {&c.Notes, &notes},
		} {
			if given(flag) {
				*f.to = f.from
			}
		}
		if given("ssh-port") {
			c.SSHPort = &port
		}
		if given("old-ssh") {
			c.OldSSH = &old
		}
		if given("tag") {
			c.Tags = tags
		}
		var err error
		if c.Settings, err = pairs(settings); err != nil {
			return err
		}
		if passwordFile != "" {
			password, err := a.secret("password of "+args[0], passwordFile, "--password-file")
			if err != nil {
				return err
			}
			c.Password = &password
		}
		var d service.Device
		if err := client.do(ctx, "PATCH", v1+"/devices"+item(args[0]), c, &d); err != nil {
			return err
		}
		return a.printDevice(d)
	})
	f := edit.Flags()
	f.StringVar(&site, "site", "", "where it stands")
	f.StringVar(&family, "family", "", "the procedure that fits it")
	f.StringVar(&address, "address", "", "IP address or host name under which it is reached")
	f.StringVar(&user, "ssh-user", "", "who signs in over SSH")
	f.StringVar(&credential, "credential", "", "a shared one to sign in with; empty: its own again")
	f.StringVar(&cluster, "cluster", "", "the devices that serve one name together with it")
	f.StringVar(&role, "cluster-role", "", "active, standby or member")
	f.IntVar(&port, "ssh-port", 22, "where its SSH server listens")
	f.StringVar(&hostKey, "host-key", "", `a new host key that you have compared, "TYPE SHA256:…"`)
	f.BoolVar(&old, "old-ssh", false, "it knows no SSH algorithms but broken ones")
	f.StringVar(&owner, "owner", "", "who answers for it")
	f.StringVar(&notes, "notes", "", "what one must know of it")
	f.StringArrayVar(&tags, "tag", nil, "a tag; may be given again; takes the place of all tags")
	f.StringArrayVar(&settings, "setting", nil, "NAME=VALUE for a setting of the procedure; NAME= takes it away; may be given again")
	f.StringVar(&passwordFile, "password-file", "", "read a new password from this file (- for standard input)")
	return edit
}

func (a *app) deviceImport() *cobra.Command {
	var t service.ImportTerms
	var columns []string
	c := &cobra.Command{
		Use: "import FILE", Short: "Add the devices of a CSV file: all of them, or none", Args: cobra.ExactArgs(1),
		Example: "  freshseal device import fleet.csv --dry-run\n  freshseal device import fleet.csv --column name=Hostname --column address=\"Mgmt IP\"",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			text, err := readFile(args[0], 32<<20)
			if err != nil {
				return err
			}
			t.CSV = string(text)
			if t.Columns, err = pairsOf("--column", columns); err != nil {
				return err
			}
			var done service.Import
			if err := client.do(ctx, "POST", v1+"/imports", t, &done); err != nil {
				return err
			}
			if err := a.printImport(done, t.DryRun); err != nil {
				return err
			}
			if done.Wrong > 0 {
				return foundWrong
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&t.DryRun, "dry-run", false, "only say what would be done")
	c.Flags().BoolVar(&t.Partial, "partial", false, "add the lines that are right although others are wrong")
	c.Flags().StringArrayVar(&columns, "column", nil, "OURS=THEIRS where the header names a column otherwise; may be given again")
	return c
}

// mostShown is how many lines a dry run shows one by one.
const mostShown = 100

// printImport tells what became of a file: for people the wrong lines in full,
// and of the others how many.
func (a *app) printImport(done service.Import, dryRun bool) error {
	if a.as != "table" {
		t := table{head: []string{"line", "device", "what", "why", "next"}}
		for _, l := range done.Lines {
			t.add(fmt.Sprint(l.Line), l.Device, l.What, l.Why, l.Next)
		}
		return a.print(done, t)
	}
	what := map[string]int{}
	for _, l := range done.Lines {
		what[l.What]++
		if dryRun && l.What == "add" && what["add"] <= mostShown {
			fmt.Fprintf(a.out, "line %d would add %s\n", l.Line, l.Device)
		}
		if l.What == "error" {
			fmt.Fprintf(a.out, "line %d, %s: %s\n  next: %s\n", l.Line, l.Device, l.Why, l.Next)
		}
	}
	fmt.Fprintf(a.out, "%d to add, %d there already, %d wrong\n", what["add"], what["there"], what["error"])
	switch {
	case done.Done:
		fmt.Fprintf(a.out, "%s added; read them now: freshseal sweep\n", count(done.Added, "device"))
	case dryRun:
		fmt.Fprintln(a.out, "nothing was changed: this was a dry run")
	default:
		fmt.Fprintf(a.out, "nothing was changed: %s wrong; mend them, or add the others with --partial\n", count(done.Wrong, "line"))
	}
	return nil
}

func (a *app) deviceExport() *cobra.Command {
	return &cobra.Command{
		Use: "export", Short: "Write all devices as CSV, without secrets", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			return client.download(ctx, v1+"/export", "-", a.out)
		}),
	}
}
