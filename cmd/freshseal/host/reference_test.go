package host

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"freshseal/cli"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

var update = flag.Bool("update", false, "write docs/commands.md anew")

// The reference on file is made of the commands themselves, so that it promises
// neither more nor less than they do.
func TestTheReferenceIsTheCommands(t *testing.T) {
	const file = "../../../docs/commands.md"
	made := reference(cli.Root(Commands))
	if *update {
		if err := os.WriteFile(file, made, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	onFile, err := os.ReadFile(file)
	if err != nil || !bytes.Equal(onFile, made) {
		t.Fatalf("%s is not up to date (%v); run: go test ./cmd/freshseal/host -update", file, err)
	}
}

// reference writes what every command is and takes, as Markdown.
func reference(root *cobra.Command) []byte {
	var out bytes.Buffer
	fmt.Fprintf(&out, "# Commands\n\n%s. Every command takes these flags:\n\n", root.Short)
	flags(&out, root.PersistentFlags())
	out.WriteString("\nExit codes: 0 done, 1 failed, 2 wrong usage, 3 done and something found wrong.\n")
	for _, c := range root.Commands() {
		command(&out, c)
	}
	return out.Bytes()
}

func command(out *bytes.Buffer, c *cobra.Command) {
	if c.Hidden || c.Name() == "help" || c.Name() == "completion" {
		return
	}
	if c.HasSubCommands() {
		fmt.Fprintf(out, "\n## %s\n\n%s.\n", c.CommandPath(), c.Short)
		for _, verb := range c.Commands() {
			command(out, verb)
		}
		return
	}
	level := "##"
	if c.Parent().HasParent() {
		level = "###"
	}
	fmt.Fprintf(out, "\n%s %s\n\n%s.\n", level, strings.TrimSuffix(c.UseLine(), " [flags]"), c.Short)
	if c.Example != "" {
		fmt.Fprintf(out, "\n```\n%s\n```\n", c.Example)
	}
	if c.LocalNonPersistentFlags().HasAvailableFlags() {
		out.WriteString("\n")
		flags(out, c.LocalNonPersistentFlags())
	}
}

func flags(out *bytes.Buffer, set *pflag.FlagSet) {
	out.WriteString("| flag | usually | what it is |\n| --- | --- | --- |\n")
	set.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" || f.Name == "version" || f.Hidden {
			return
		}
		usually := f.DefValue
		switch usually {
		case "", "[]", "false", "0":
			usually = ""
		default:
			usually = "`" + usually + "`"
		}
		fmt.Fprintf(out, "| `--%s` | %s | %s |\n", f.Name, usually,
			strings.NewReplacer("|", `\|`, "\n", " ").Replace(f.Usage))
	})
}
