package host

import (
	"fmt"
	"os"
	"strings"

	"freshseal/cli"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// settled lets the flags of a command be set by environment variables
// (FRESHSEAL_LISTEN for --listen) and by a YAML file (listen: …) as well. What
// stands on the command line counts most, the file least.
func settled(c *cobra.Command) *cobra.Command {
	file := c.Flags().String("settings", "", "a YAML file with these flags by name")
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		fromFile := map[string]string{}
		if *file != "" {
			text, err := os.ReadFile(*file)
			if err == nil {
				err = yaml.Unmarshal(text, &fromFile)
			}
			if err != nil {
				return cli.Failed("the settings in "+*file+" cannot be read", firstLine(err),
					"write lines such as listen: 0.0.0.0:8443")
			}
		}
		for name := range fromFile {
			if c.Flags().Lookup(name) == nil {
				return cli.Misuse(fmt.Sprintf("%s sets %q, which is no flag of %s", *file, name, c.Name()), "",
					"see: freshseal "+c.Name()+" --help")
			}
		}
		var wrong error
		c.Flags().VisitAll(func(f *pflag.Flag) {
			value, ok := os.LookupEnv("FRESHSEAL_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_")))
			if !ok {
				value, ok = fromFile[f.Name]
			}
			if f.Changed || !ok || f.Name == "config" || f.Name == "settings" {
				return
			}
			if err := c.Flags().Set(f.Name, value); err != nil {
				wrong = cli.Misuse(fmt.Sprintf("the setting %s cannot be %q", f.Name, value), err.Error(),
					"see: freshseal "+c.Name()+" --help")
			}
		})
		if wrong != nil {
			return wrong
		}
		return run(c, args)
	}
	return c
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}
