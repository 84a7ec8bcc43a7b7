package fleet

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/language/draft"
	"freshseal/core/language/library"
	"freshseal/core/language/procedure"

	"github.com/spf13/cobra"
)

func (a *commands) procedure() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the procedures of all families", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Procedure](ctx, client, "/procedures")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"procedure", "usable", "title", "settings"}}
			for _, p := range all {
				usable := "yes"
				if !p.Usable {
					usable = "NO"
				}
				t.Add(p.Name, usable, p.Title, fmt.Sprint(len(p.Settings)))
			}
			if err := a.Print(all, t); err != nil || a.As != "table" {
				return err
			}
			for _, p := range all {
				for _, f := range p.Faults {
					cli.Put(a.Out, "%s: %v\n", p.Name, f)
				}
			}
			return nil
		}),
	}
	show := &cobra.Command{
		Use: "show NAME", Short: "Print the text of a procedure; the built-in ones need no service",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if source, ok := library.Named(args[0]); ok && a.As == "table" {
				io.WriteString(cli.ForTerminal(a.Out), source.YAML)
				return nil
			}
			client, err := a.Client()
			if err != nil {
				return err
			}
			var p contract.Procedure
			if err := client.Do(c.Context(), "GET", cli.V1+"/procedures"+cli.Item(args[0]), nil, &p); err != nil {
				return err
			}
			if a.As != "table" {
				t := cli.Table{Head: []string{"procedure", "title"}}
				t.Add(p.Name, p.Title)
				return a.Print(p, t)
			}
			io.WriteString(cli.ForTerminal(a.Out), p.YAML)
			return nil
		},
	}
	check := &cobra.Command{
		Use: "check FILE… | FOLDER | -", Short: "Check procedures; needs no service", Args: cobra.MinimumNArgs(1),
		Example: "  freshseal procedure check quay-gateway.procedure.yaml\n  freshseal procedure check " +
			"procedures/\n  freshseal procedure draft quay-gateway | freshseal procedure check -",
		RunE: func(c *cobra.Command, args []string) error { return a.checkProcedures(c.InOrStdin(), args) },
	}
	link := procedure.SSH
	draft := &cobra.Command{
		Use: "draft NAME", Short: "Print a commented template for a new procedure; needs no service",
		Args: cobra.ExactArgs(1),
		Example: "  freshseal procedure draft quay-gateway > quay-gateway.procedure.yaml\n  freshseal procedure " +
			"draft quay-lock --link https > quay-lock.procedure.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := draft.New(args[0], link)
			if err != nil {
				return cli.Failed("no draft was made", err.Error(), "choose another name, or another --link")
			}
			io.WriteString(a.Out, text)
			return nil
		},
	}
	draft.Flags().StringVar(&link, "link", procedure.SSH, "how such devices are reached: ssh or https")
	values := &cobra.Command{
		Use: "values", Short: "List the values that procedures can use; needs no service", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			all := procedure.AllGiven()
			t := cli.Table{Head: []string{"value", "kind", "from", "about"}}
			for _, g := range all {
				t.Add(g.Name, string(g.Kind), string(g.From), g.About)
			}
			return a.Print(all, t)
		},
	}
	return cli.Noun("procedure", "How each family gets its certificate", list, show, check, draft, values)
}

// checked is what was found in one file.
type checked struct {
	File   string            `json:"file"`
	Name   string            `json:"procedure"`
	Faults []procedure.Fault `json:"faults"`
}

func (a *commands) checkProcedures(stdin io.Reader, args []string) error {
	var all []checked
	seen := map[string]string{}
	refused := false
	for _, arg := range args {
		files, err := procedureFiles(arg)
		if err != nil {
			return err
		}
		for _, file := range files {
			text, err := a.procedureText(stdin, file)
			if err != nil {
				return err
			}
			known, notes, err := library.LoadParts(os.DirFS(filepath.Dir(file))) // the parts beside it
			if err != nil {
				return err
			}
			for _, note := range notes {
				cli.Putln(a.Err, "freshseal: "+note)
			}
			p, faults := procedure.ParseWith(text, known)
			if other, taken := seen[p.Name]; taken && p.Name != "" {
				faults = append(faults,
					procedure.Fault{Line: 1, Column: 1, What: fmt.Sprintf("%s describes a procedure of the "+
						"same name, %s", other, p.Name), Instead: "choose another name"})
			}
			seen[p.Name] = file
			refused = refused || procedure.Refused(faults)
			all = append(all, checked{file, p.Name, append([]procedure.Fault{}, faults...)})
			if a.As == "table" {
				printFaults(a, file, p, faults)
			}
		}
	}
	if a.As != "table" {
		t := cli.Table{Head: []string{"file", "line", "column", "warning", "what", "instead"}}
		for _, c := range all {
			for _, f := range c.Faults {
				t.Add(c.File, fmt.Sprint(f.Line), fmt.Sprint(f.Column), fmt.Sprint(f.Warning), f.What, f.Instead)
			}
		}
		if err := a.Print(all, t); err != nil {
			return err
		}
	}
	if refused {
		return cli.FoundWrong
	}
	return nil
}

func printFaults(a *commands, file string, p procedure.Procedure, faults []procedure.Fault) {
	for _, f := range faults {
		what := f.What
		if f.Warning {
			what = "warning: " + what
		}
		cli.Put(a.Out, "%s:%d:%d: %s\n", file, f.Line, f.Column, what)
		if f.Instead != "" {
			cli.Put(a.Out, "    %s\n", f.Instead)
		}
	}
	if procedure.Refused(faults) {
		return
	}
	steps := 0
	for _, list := range p.Steps {
		steps += len(list)
	}
	cli.Put(a.Out, "%s: the procedure %s can be used; %d settings, %d steps\n", file, p.Name, len(p.Settings), steps)
}

// procedureFiles returns a file, or the procedures of a folder.
func procedureFiles(arg string) ([]string, error) {
	info, err := os.Stat(arg)
	if err != nil || !info.IsDir() {
		return []string{arg}, nil // reading it says what is wrong
	}
	files, err := filepath.Glob(filepath.Join(arg, "*.procedure.yaml"))
	if err == nil && len(files) == 0 {
		return nil, cli.Failed("no procedure was checked", arg+" contains no file that ends in .procedure.yaml",
			"name the files, or another folder")
	}
	return files, err
}

func (a *commands) procedureText(stdin io.Reader, file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(stdin, procedure.MaxSize+1))
	}
	return cli.ReadFile(file, procedure.MaxSize)
}
