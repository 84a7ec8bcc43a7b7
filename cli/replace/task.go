package replace

import (
	"context"
	"encoding/base64"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

// task returns about the steps that people do by hand.
func (a *commands) task() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the tasks that wait for a person", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			tasks, err := cli.ListOf[contract.Task](ctx, client, "/tasks")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"task", "device", "stage", "what", "until", "taken_by"}}
			for _, each := range tasks {
				t.Add(each.ID, each.Device+"/"+each.Slot, cli.Word(each.Stage), each.Name, each.DueAt, each.TakenBy)
			}
			if a.As != "table" {
				return a.Print(tasks, t)
			}
			tell, err := a.pinUpdates(ctx, client, "")
			if err != nil {
				return err
			}
			if len(tasks) == 0 && len(tell) == 0 {
				cli.Putln(a.Out, "nothing waits for a person")
				return nil
			}
			if len(tasks) > 0 {
				if err := a.Print(tasks, t); err != nil {
					return err
				}
			}
			if len(tell) > 0 && len(tasks) > 0 {
				cli.Putln(a.Out)
			}
			if err := a.printPinUpdates(tell); err != nil || len(tell) == 0 {
				return err
			}
			cli.Put(a.Out, "next: give them the new certificate, then: freshseal pin confirm ID\n")
			return nil
		}),
	}
	show := &cobra.Command{
		Use: "show TASK", Short: "Show a task, with the values to copy and the files to upload",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			if strings.HasPrefix(args[0], "n") { // pending pins are listed among the tasks
				all, err := a.pinUpdates(ctx, client, "")
				for _, each := range all {
					if each.ID == args[0] {
						return a.printPinUpdates([]contract.PinUpdate{each})
					}
				}
				if err == nil {
					err = cli.Failed("no pending pin is called "+args[0], "", "see: freshseal pin pending")
				}
				return err
			}
			var t contract.Task
			if err := client.Do(ctx, "GET", cli.V1+"/tasks"+cli.Item(args[0]), nil, &t); err != nil {
				return err
			}
			return a.printTask(t)
		}),
	}
	take := &cobra.Command{
		Use: "take TASK", Short: "Assign a task to yourself", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var t contract.Task
			if err := client.Do(ctx, "POST", cli.V1+"/tasks"+cli.Item(args[0], "take"), nil, &t); err != nil {
				return err
			}
			return a.printTask(t)
		}),
	}
	note := &cobra.Command{
		Use: "note TASK TEXT", Short: "Add a note to a task", Args: cobra.MinimumNArgs(2),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "POST", cli.V1+"/tasks"+cli.Item(args[0], "notes"),
				map[string]string{"text": strings.Join(args[1:], " ")}, nil)
		}),
	}
	return cli.Noun("task", "Steps that people do by hand", list, show, take, a.taskFile(), note, a.taskAnswer())
}

func (a *commands) printTask(t contract.Task) error {
	if a.As != "table" {
		values := cli.Table{Head: []string{"label", "text"}}
		for _, c := range t.Copy {
			values.Add(c.Label, c.Text)
		}
		return a.Print(t, values)
	}
	w := a.Out
	cli.Put(w, "%s  %s/%s, stage %s of %s: %s\n", t.ID, t.Device, t.Slot, t.Stage, t.Replacement, t.Name)
	cli.Put(w, "until %s", cli.Moment(t.DueAt))
	if t.TakenBy != "" {
		cli.Put(w, ", taken by %s", t.TakenBy)
	}
	cli.Put(w, "\n\n")
	for _, line := range wrap(t.Text, 78) {
		cli.Putln(w, line)
	}
	if len(t.Copy) > 0 {
		cli.Putln(w)
	}
	for _, c := range t.Copy {
		cli.Put(w, "  %s: %s\n", c.Label, cli.Lines("    ", c.Text))
	}
	for _, f := range t.Files {
		if f.Secret {
			cli.Put(w, "  file %s (a private key; delete it when the device has it): freshseal task file %s %s "+
				"--out %s\n",
				f.Name, t.ID, f.Name, f.Name)
			continue
		}
		cli.Put(w, "  file %s (%d bytes): freshseal task file %s %s --out %s\n", f.Name, f.Size, t.ID, f.Name, f.Name)
	}
	for _, n := range t.Notes {
		cli.Put(w, "\n  note by %s, %s: %s\n", n.By, cli.Moment(n.At), cli.Lines("    ", n.Text))
	}
	switch {
	case !t.Open:
		cli.Put(w, "\nit is over; see: freshseal replacement show %s\n", t.Replacement)
	case t.Ask != "":
		cli.Put(w, "\nthen give back %s: freshseal task answer %s --file FILE (- for standard input)\n", t.Ask, t.ID)
	case t.Seen != "":
		cli.Put(w, "\nit ends by itself when the wire shows it; to look at once: freshseal task answer %s\n", t.ID)
	default:
		cli.Put(w, "\nthen: freshseal task answer %s\n", t.ID)
	}
	return nil
}

// wrap breaks a text into lines at blanks.
func wrap(text string, columns int) []string {
	var lines []string
	for paragraph := range strings.SplitSeq(text, "\n") {
		line := ""
		for _, word := range strings.Fields(paragraph) {
			if line != "" && len([]rune(line))+1+len([]rune(word)) > columns {
				lines = append(lines, line)
				line = ""
			}
			line = strings.TrimPrefix(line+" "+word, " ")
		}
		lines = append(lines, line)
	}
	return lines
}

func (a *commands) taskFile() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "file TASK NAME", Short: "Download a file of a task", Args: cobra.ExactArgs(2),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return a.SaveAs(ctx, client, cli.V1+"/tasks"+cli.Item(args[0], "files", args[1]), out)
		}),
	}
	c.Flags().StringVar(&out, "out", "-", "the file to write (- for standard output)")
	return c
}

func (a *commands) taskAnswer() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "answer TASK", Short: "Finish a task, with the result that it asks for", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			text := ""
			switch file {
			case "":
			case "-":
				content, err := io.ReadAll(io.LimitReader(a.In, 1<<17))
				if err != nil {
					return err
				}
				text = string(content)
			default:
				content, err := os.ReadFile(file)
				if err != nil {
					return cli.Failed("the answer cannot be read", err.Error(), "name the right file with --file")
				}
				text = string(content)
			}
			if !utf8.ValidString(text) { // such as a request in DER
				text = base64.StdEncoding.EncodeToString([]byte(text))
			}
			var r contract.Replacement
			if err := client.Do(ctx, "POST", cli.V1+"/tasks"+cli.Item(args[0], "answer"),
				map[string]string{"text": text},
				&r); err != nil {
				return err
			}
			return a.settle(ctx, client, r.ID)
		}),
	}
	c.Flags().StringVar(&file, "file", "", "read the result from this file (- for standard input)")
	return c
}
