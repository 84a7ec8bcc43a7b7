package host

import (
	"context"
	"errors"
	"net"
	"path/filepath"
	"strconv"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"
	"freshseal/notify"
	"freshseal/service"
	"freshseal/service/problem"
	"freshseal/standin/demo"

	"github.com/spf13/cobra"
)

// mailbox is where the demo's sinks keep what they get, below its folder.
const mailbox = "boxes/mailbox"

// mailbox shows what the demo told people.
func (a app) mailbox() *cobra.Command {
	var dir, sink string
	var last int
	c := &cobra.Command{
		Use: "mailbox", Short: "Show the notices that the demo sent: by mail, webhook and syslog",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			all, err := demo.Mailbox(filepath.Join(dir, mailbox))
			if err != nil {
				return cli.Failed("there is no mailbox", err.Error(), "start the demo first, or name its folder "+
					"with --dir")
			}
			var shown []demo.Got
			for _, g := range all {
				if sink == "" || g.Sink == sink {
					shown = append(shown, g)
				}
			}
			if left := len(shown) - last; left > 0 {
				cli.Put(a.Out, "%d earlier ones are not shown\n\n", left)
				shown = shown[left:]
			}
			for _, g := range shown {
				cli.Put(a.Out, "--- %s ---\n", g.Sink)
				for line := range strings.Lines(g.Readable()) {
					cli.Put(a.Out, "%s\n", strings.TrimRight(line, "\r\n"))
				}
				cli.Putln(a.Out)
			}
			cli.Put(a.Out, "%s\n", cli.Count(len(all), "message"))
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", ".demo", "the demo's data folder")
	c.Flags().StringVar(&sink, "sink", "", "only those of mail, hook or syslog")
	c.Flags().IntVar(&last, "last", 5, "how many of the newest")
	return c
}

// tellAll sets the demo's channels, which listen at new ports each time, and at the first start its rules.
func tellAll(ctx context.Context, s *service.Service, sinks *demo.Sinks) error {
	at := func(address string) (string, int) {
		host, port, _ := net.SplitHostPort(address)
		n, _ := strconv.Atoi(port)
		return host, n
	}
	mail, hook, syslog := contract.NewChannel{Secret: sinks.Password}, contract.NewChannel{Secret: sinks.Key},
		contract.NewChannel{}
	mail.Kind, mail.From, mail.To, mail.User, mail.Pin = notify.Mail, "seal@mainquay.tidewrack.example",
		[]string{"noc@mainquay.tidewrack.example"}, sinks.User, sinks.Certificate
	mail.Owners = map[string]string{"terminal": "terminal@tidewrack.example",
		"ship's office": "ships@tidewrack.example"}
	mail.Address, mail.Port = at(sinks.Mail)
	hook.Kind, hook.URL, hook.Pin = notify.Webhook, "https://"+sinks.Hook+"/certificates", sinks.Certificate
	syslog.Kind, syslog.Security, syslog.Pin = notify.Syslog, notify.TLS, sinks.Certificate
	syslog.Address, syslog.Port = at(sinks.Syslog)
	for name, n := range map[string]contract.NewChannel{"mail": mail, "hook": hook, "log": syslog} {
		if _, err := s.Notices.SetChannel(ctx, name, n, problem.Any); err != nil {
			return err
		}
	}
	rules, err := s.Notices.Rules(ctx)
	if err != nil || len(rules) > 0 {
		return err
	}
	_, first := s.Notices.SetRule(ctx, "at-once",
		notice.Rule{Conditions: []due.Condition{due.Expired, due.Unexpected, due.Overdue},
			To: []string{"mail", "log"}, RepeatDays: 3, Escalate: []string{"hook"}, Recovery: true}, problem.Any)
	_, second := s.Notices.SetRule(ctx, "expiry", notice.Rule{Days: []int{30, 14, 3}, To: []string{"mail"},
		Digest: "07:00", Quiet: "20:00-06:00"}, problem.Any)
	_, third := s.Notices.SetRule(ctx, "unreachable-at-mainquay",
		notice.Rule{Conditions: []due.Condition{due.Unreachable}, Site: "Mainquay", To: []string{"hook"},
			Recovery: true}, problem.Any)
	return errors.Join(first, second, third)
}
