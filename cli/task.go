package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"freshseal/service"

	"github.com/spf13/cobra"
)

// task is about the steps that people do by hand.
func (a *app) task() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the steps that wait for a person", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			tasks, err := listOf[service.Task](ctx, client, "/tasks")
			if err != nil {
				return err
			}
			t := table{head: []string{"task", "device", "stage", "what", "until", "taken_by"}, wide: 1}
			for _, each := range tasks {
				t.add(each.ID, each.Device+"/"+each.Slot, each.Stage, each.Name, each.DueAt.UTC().Format("2006-01-02 15:04"), dash(each.TakenBy))
			}
			if len(tasks) == 0 && a.as == "table" {
				fmt.Fprintln(a.out, "nothing waits for a person")
				return nil
			}
			return a.print(tasks, t)
		}),
	}
	show := &cobra.Command{
		Use: "show TASK", Short: "Show what is to be done, with the values to copy and the files to carry", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var t service.Task
			if err := client.do(ctx, "GET", v1+"/tasks"+item(args[0]), nil, &t); err != nil {
				return err
			}
			return a.printTask(t)
		}),
	}
	take := &cobra.Command{
		Use: "take TASK", Short: "Say that you do it, or take it over", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var t service.Task
			if err := client.do(ctx, "POST", v1+"/tasks"+item(args[0], "take"), nil, &t); err != nil {
				return err
			}
			return a.printTask(t)
		}),
	}
	note := &cobra.Command{
		Use: "note TASK TEXT", Short: "Write a note beside a task", Args: cobra.MinimumNArgs(2),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "POST", v1+"/tasks"+item(args[0], "notes"), map[string]string{"text": strings.Join(args[1:], " ")}, nil)
		}),
	}
	return noun("task", "Steps that people do by hand", list, show, take, a.taskFile(), note, a.taskAnswer())
}

func (a *app) printTask(t service.Task) error {
	if a.as != "table" {
		values := table{head: []string{"label", "text"}, wide: 1}
		for _, c := range t.Copy {
			values.add(c.Label, c.Text)
		}
		return a.print(t, values)
	}
	w := a.out
	fmt.Fprintf(w, "%s  %s/%s, stage %s of %s: %s\n", t.ID, t.Device, t.Slot, t.Stage, t.Replacement, t.Name)
	fmt.Fprintf(w, "until %s", moment(t.DueAt))
	if t.TakenBy != "" {
		fmt.Fprintf(w, ", taken by %s", t.TakenBy)
	}
	fmt.Fprint(w, "\n\n")
	for _, line := range wrap(t.Text, 78) {
		fmt.Fprintln(w, line)
	}
	if len(t.Copy) > 0 {
		fmt.Fprintln(w)
	}
	for _, c := range t.Copy {
		fmt.Fprintf(w, "  %s: %s\n", c.Label, c.Text)
	}
	for _, f := range t.Files {
		fmt.Fprintf(w, "  file %s (%d bytes): freshseal task file %s %s --out %s\n", f.Name, f.Size, t.ID, f.Name, f.Name)
	}
	for _, n := range t.Notes {
		fmt.Fprintf(w, "\n  note by %s, %s: %s\n", n.By, moment(n.At), n.Text)
	}
	switch {
	case !t.Open:
		fmt.Fprintf(w, "\nit is over; see: freshseal replacement show %s\n", t.Replacement)
	case t.Ask != "":
		fmt.Fprintf(w, "\nthen give back %s: freshseal task answer %s --file FILE (- for standard input)\n", t.Ask, t.ID)
	case t.Seen != "":
		fmt.Fprintf(w, "\nit ends by itself when the wire shows it; to look at once: freshseal task answer %s\n", t.ID)
	default:
		fmt.Fprintf(w, "\nthen: freshseal task answer %s\n", t.ID)
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

func (a *app) taskFile() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "file TASK NAME", Short: "Get a file that is to be carried to the device", Args: cobra.ExactArgs(2),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.download(ctx, v1+"/tasks"+item(args[0], "files", args[1]), out, a.out)
		}),
	}
	c.Flags().StringVar(&out, "out", "-", "where to put it (- for standard output)")
	return c
}

func (a *app) taskAnswer() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "answer TASK", Short: "Give back what a task asks for, or say that it is done", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			text := ""
			switch file {
			case "":
			case "-":
				content, err := io.ReadAll(io.LimitReader(a.in, 1<<17))
				if err != nil {
					return err
				}
				text = string(content)
			default:
				content, err := os.ReadFile(file)
				if err != nil {
					return failed("the answer cannot be read", err.Error(), "name the right file with --file")
				}
				text = string(content)
			}
			var r service.Replacement
			if err := client.do(ctx, "POST", v1+"/tasks"+item(args[0], "answer"), map[string]string{"text": text}, &r); err != nil {
				return err
			}
			return a.settle(ctx, client, r.ID)
		}),
	}
	c.Flags().StringVar(&file, "file", "", "read what is given back from this file (- for standard input)")
	return c
}
