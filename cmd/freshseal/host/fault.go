package host

import (
	"errors"
	"path/filepath"
	"slices"
	"strconv"

	"freshseal/cli"
	"freshseal/standin/demo"

	"github.com/spf13/cobra"
)

// faults switches the faults of the demo's boxes.
func (a app) faults() *cobra.Command {
	var dir string
	var after int
	boxes := func() string { return filepath.Join(dir, "boxes") }
	type row struct {
		Device string `json:"device,omitempty"`
		Fault  string `json:"fault"`
		After  int    `json:"after,omitempty"`
		About  string `json:"about"`
	}
	said := func(what string, err error) error {
		if err != nil {
			what += ", not followed yet: " + err.Error()
		}
		cli.Put(a.Out, "%s\n", what)
		return nil
	}
	list := &cobra.Command{
		Use: "list [DEVICE]", Short: "List the faults that are set, or those that a device knows",
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			set, err := demo.SetFaults(boxes())
			if err != nil {
				return cli.Failed("the faults cannot be read", err.Error(), "start the demo first, or name its "+
					"folder with --dir")
			}
			rows, t := []row{}, cli.TableOf("device", "fault", "after", "about")
			if len(args) == 1 {
				known, err := demo.FaultsOfDevice(args[0])
				if err != nil {
					return cli.Failed("no faults are known", err.Error(), "name a device of the demo: freshseal "+
						"device list")
				}
				t = cli.TableOf("fault", "set", "about")
				for _, f := range known {
					rows = append(rows, row{Fault: f.Name, About: f.About})
					t.Add(f.Name, map[bool]string{true: "yes"}[set[args[0]].Fault == f.Name], f.About)
				}
				return a.Print(rows, t)
			}
			names := []string{}
			for name := range set {
				names = append(names, name)
			}
			slices.Sort(names)
			for _, name := range names {
				about := ""
				known, _ := demo.FaultsOfDevice(name) // of a device that is no more: none
				for _, f := range known {
					if f.Name == set[name].Fault {
						about = f.About
					}
				}
				rows = append(rows, row{name, set[name].Fault, set[name].After, about})
				t.Add(name, set[name].Fault, strconv.Itoa(set[name].After), about)
			}
			return a.Print(rows, t)
		},
	}
	set := &cobra.Command{
		Use: "set DEVICE FAULT", Short: "Switch on a fault of a box of the running demo", Args: cobra.ExactArgs(2),
		Example: "  freshseal demo fault set watch.mainquay.tidewrack.example refuses",
		RunE: func(_ *cobra.Command, args []string) error {
			err := demo.SetFault(boxes(), args[0], demo.FaultSet{Fault: args[1], After: after})
			if err != nil && !errors.Is(err, demo.ErrNotFollowed) {
				return cli.Failed("the fault was not set", err.Error(), "freshseal demo fault list "+args[0])
			}
			return said(args[0]+": "+args[1], err)
		},
	}
	set.Flags().IntVar(&after, "after", 0, "begin once the box was asked this many more things (commands and calls)")
	clear := &cobra.Command{
		Use: "clear DEVICE", Short: "Clear the faults of a box of the running demo", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			err := demo.SetFault(boxes(), args[0], demo.FaultSet{})
			if err != nil && !errors.Is(err, demo.ErrNotFollowed) {
				return cli.Failed("the fault was not cleared", err.Error(), "freshseal demo fault list")
			}
			return said(args[0]+": no fault", err)
		},
	}
	c := cli.Noun("fault", "Faults of the demo's boxes", list, set, clear)
	c.PersistentFlags().StringVar(&dir, "dir", ".demo", "the demo's data folder")
	return c
}
