package cli

import (
	"context"
	"fmt"
	"strings"

	"freshseal/api"
	"freshseal/core/procedure"

	"github.com/spf13/cobra"
)

func (a *app) procedure() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the procedures of all families", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			all, err := listOf[api.Procedure](ctx, client, "/procedures")
			if err != nil {
				return err
			}
			t := table{head: []string{"procedure", "title", "settings"}, wide: 2}
			for _, p := range all {
				t.add(p.Name, p.Title, strings.Join(settingNames(p), " "))
			}
			return a.print(all, t)
		}),
	}
	show := &cobra.Command{
		Use: "show NAME", Short: "Show a procedure's text", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var p api.Procedure
			if err := client.do(ctx, "GET", v1+"/procedures"+item(args[0]), nil, &p); err != nil {
				return err
			}
			if a.as != "table" {
				t := table{head: []string{"procedure", "title"}}
				t.add(p.Name, p.Title)
				return a.print(p, t)
			}
			fmt.Fprint(a.out, p.YAML)
			return nil
		}),
	}
	check := &cobra.Command{
		Use: "check FILE", Short: "Check a procedure's text; needs no service", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := readFile(args[0], procedure.MaxSize)
			if err != nil {
				return err
			}
			p, faults := procedure.Parse(text)
			t := table{head: []string{"line", "column", "what", "instead"}, wide: 2}
			for _, f := range faults {
				t.add(fmt.Sprint(f.Line), fmt.Sprint(f.Column), f.What, f.Instead)
			}
			switch {
			case a.as != "table":
				if faults == nil {
					faults = []procedure.Fault{}
				}
				err = a.print(faults, t)
			case len(faults) == 0:
				steps := 0
				for _, list := range p.Steps {
					steps += len(list)
				}
				fmt.Fprintf(a.out, "%s: no fault; procedure %s, %d settings, %d steps\n", args[0], p.Name, len(p.Settings), steps)
			}
			if a.as == "table" {
				for _, f := range faults {
					fmt.Fprintf(a.out, "%s:%d:%d: %s\n", args[0], f.Line, f.Column, f.What)
					if f.Instead != "" {
						fmt.Fprintf(a.out, "    %s\n", f.Instead)
					}
				}
			}
			if err == nil && len(faults) > 0 {
				return foundWrong
			}
			return err
		},
	}
	return noun("procedure", "How each family gets its certificate", list, show, check)
}

func settingNames(p api.Procedure) []string {
	var names []string
	for _, s := range p.Settings {
		names = append(names, s.Name)
	}
	return names
}
