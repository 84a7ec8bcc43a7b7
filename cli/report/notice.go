package report

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"

	"github.com/spf13/cobra"
)

// channel returns where people are told.
func (a *commands) channel() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the channels for notices", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Channel](ctx, client, "/channels")
			if err != nil {
				return err
			}
			return a.printChannels(all, all)
		}),
	}
	try := &cobra.Command{
		Use: "try CHANNEL", Short: "Send a test message", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var t contract.Trial
			if err := client.Do(ctx, "POST", cli.V1+"/channels"+cli.Item(args[0])+"/trials", nil, &t); err != nil {
				return err
			}
			if !t.Sent {
				return cli.Failed("the message was not sent", t.Why, "correct the channel: freshseal channel set "+
					args[0])
			}
			if a.As != "table" {
				return a.Print(t, cli.Table{})
			}
			cli.Putln(a.Out, "sent")
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove CHANNEL", Short: "Remove a channel that no rule uses", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/channels"+cli.Item(args[0]), nil, nil)
		}),
	}
	return cli.Noun("channel", "Channels for notices: mail, webhooks, syslog servers", list, a.channelSet(),
		try,
		remove)
}

func (a *commands) printChannels(shown any, all []contract.Channel) error {
	t := cli.Table{Head: []string{"channel", "kind", "to"}}
	for _, c := range all {
		to := net.JoinHostPort(c.Address, strconv.Itoa(c.Port))
		switch c.Kind {
		case contract.MailChannel:
			to = strings.Join(c.To, ", ") + " by " + to
		case contract.WebhookChannel:
			to = c.URL
		}
		t.Add(c.Name, string(c.Kind), to)
	}
	return a.Print(shown, t)
}

// revisionOf returns the revision of what has a name in a list; 0: nothing has.
func revisionOf[T interface{ Revised() contract.Revision }](ctx context.Context, client *cli.Client, list string,
	is func(T) bool) (contract.Revision, error) {
	all, err := cli.ListOf[T](ctx, client, list)
	if err != nil {
		return 0, err
	}
	for _, each := range all {
		if is(each) {
			return each.Revised(), nil
		}
	}
	return 0, nil
}

func (a *commands) channelSet() *cobra.Command {
	var n contract.NewChannel
	var mail, hook, syslog, security, secretFile string
	var owners []string
	c := &cobra.Command{
		Use: "set CHANNEL", Short: "Add or replace a channel", Args: cobra.ExactArgs(1),
		Example: "  freshseal channel set mail --mail post.tidewrack.example --from seal@tidewrack.example --to " +
			"noc@tidewrack.example --owner terminal=terminal@tidewrack.example --user seal --secret-file mail.txt\n" +
			"  freshseal channel set hook --webhook https://hooks.tidewrack.example/certificates --secret-file " +
			"hook.key\n  freshseal channel set log --syslog logs.tidewrack.example:6514",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			server := mail
			switch {
			case mail != "":
				n.Kind = contract.MailChannel
			case hook != "":
				n.Kind, n.URL = contract.WebhookChannel, hook
			default:
				n.Kind, server = contract.SyslogChannel, syslog
			}
			n.Address = server
			if host, port, err := net.SplitHostPort(server); err == nil {
				if n.Port, err = strconv.Atoi(port); err != nil {
					return cli.Misuse(port+" is not a port", "", "write the server as HOST:PORT")
				}
				n.Address = host
			}
			n.Security = security
			var err error
			if n.Owners, err = cli.PairsOf("--owner", owners); err != nil {
				return err
			}
			if secretFile != "" {
				if n.Secret, err = a.Secret("secret", secretFile, "--secret-file"); err != nil {
					return err
				}
			}
			known, err := revisionOf(ctx, client, "/channels", func(c contract.Channel) bool {
				return c.Name == args[0]
			})
			if err != nil {
				return err
			}
			var kept contract.Channel
			if err := client.Change(ctx, "PUT", cli.V1+"/channels"+cli.Item(args[0]), known, n, &kept); err != nil {
				return err
			}
			return a.printChannels(kept, []contract.Channel{kept})
		}),
	}
	f := c.Flags()
	f.StringVar(&mail, "mail", "", "a mail server, HOST or HOST:PORT")
	f.StringVar(&hook, "webhook", "", "an address that takes JSON by POST")
	f.StringVar(&syslog, "syslog", "", "a syslog server (RFC 5424 over TCP), HOST or HOST:PORT")
	f.StringVar(&security, "security", "", "starttls, tls or plain (mail: starttls, syslog: tls)")
	f.StringVar(&n.Pin, "pin", "", "SHA-256 of the server's certificate, where the system does not trust it")
	f.StringVar(&n.From, "from", "", "the sender of mail")
	f.StringArrayVar(&n.To, "to", nil, "a recipient of mail; may be given again")
	f.StringArrayVar(&owners, "owner", nil, "OWNER=ADDRESS: who is told of the slots of an owner, instead; may be "+
		"given again")
	f.StringVar(&n.User, "user", "", "the user of the mail server")
	f.StringVar(&secretFile, "secret-file", "", "read the password of the mail server, or the key that signs a "+
		"webhook's messages, from this file (- for standard input)")
	c.MarkFlagsOneRequired("mail", "webhook", "syslog")
	c.MarkFlagsMutuallyExclusive("mail", "webhook", "syslog")
	return c
}

// notice returns about who is told what.
func (a *commands) notice() *cobra.Command {
	rules := &cobra.Command{
		Use: "rules", Short: "List the notice rules", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Rule](ctx, client, "/notice-rules")
			if err != nil {
				return err
			}
			return a.printRules(all, all)
		}),
	}
	remove := &cobra.Command{
		Use: "remove-rule RULE", Short: "Remove a notice rule; notices that are queued are still sent",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/notice-rules"+cli.Item(args[0]), nil, nil)
		}),
	}
	known := &cobra.Command{
		Use: "acknowledged", Short: "List the acknowledged slots", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Acknowledgement](ctx, client, "/acknowledgements")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"slot", "until", "by", "reason"}}
			for _, k := range all {
				t.Add(k.Slot, cli.OnDay(&k.Until), k.By, k.Reason)
			}
			return a.Print(all, t)
		}),
	}
	withdraw := &cobra.Command{
		Use: "withdraw DEVICE/SLOT", Short: "Withdraw an acknowledgement", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			device, slot, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			return client.Do(ctx, "DELETE", cli.V1+"/slots"+cli.Item(device, slot)+"/acknowledgement", nil, nil)
		}),
	}
	return cli.Noun("notice", "Notice rules, and the notices that were sent", a.noticeList(), rules,
		a.noticeRule(), remove,
		a.noticeAcknowledge(), known, withdraw)
}

func (a *commands) printRules(shown any, all []contract.Rule) error {
	t := cli.Table{Head: []string{"rule", "when", "of", "to"}}
	for _, r := range all {
		var when, of []string
		for _, c := range r.Conditions {
			when = append(when, string(c))
		}
		if len(r.Days) > 0 {
			when = append(when, strings.Trim(strings.ReplaceAll(fmt.Sprint(r.Days), " ", ", "), "[]")+" days left")
		}
		for what, value := range map[string]string{"site": r.Site, "family": r.Family, "owner": r.Owner, "tag": r.Tag} {
			if value != "" {
				of = append(of, what+" "+value)
			}
		}
		if r.Expiring {
			of = append(of, "CA certificates, domains, tokens")
		}
		if r.Paused {
			when = []string{"paused"}
		}
		t.Add(r.Name, strings.Join(when, ", "), strings.Join(of, ", "), strings.Join(r.To, ", "))
	}
	return a.Print(shown, t)
}

func (a *commands) noticeRule() *cobra.Command {
	var r notice.Rule
	var on []string
	c := &cobra.Command{
		Use: "rule RULE", Short: "Add or replace a notice rule", Args: cobra.ExactArgs(1),
		Example: "  freshseal notice rule broken --condition unexpected --condition unreachable --to hook " +
			"--recovery\n  freshseal notice rule expiry --days 30,14,7,1 --to mail --digest 07:30 --zone " +
			"Europe/Oslo --repeat 7 --escalate hook\n  freshseal notice rule chains --expiring --days 180,60,14 " +
			"--to mail",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			for _, word := range on {
				r.Conditions = append(r.Conditions, due.Condition(word))
			}
			known, err := revisionOf(ctx, client, "/notice-rules", func(r contract.Rule) bool {
				return r.Name == args[0]
			})
			if err != nil {
				return err
			}
			var kept contract.Rule
			if err := client.Change(ctx, "PUT", cli.V1+"/notice-rules"+cli.Item(args[0]), known, r, &kept); err != nil {
				return err
			}
			return a.printRules(kept, []contract.Rule{kept})
		}),
	}
	f := c.Flags()
	f.StringArrayVar(&on, "condition", nil, "tell of slots in this condition; may be given again")
	f.IntSliceVar(&r.Days, "days", nil, "tell when so many days are left, such as 30,14,3: a stage for each")
	f.BoolVar(&r.Expiring, "expiring", false, "tell of CA certificates, domain validations, tokens and calendars "+
		"that expire within these days, instead of slots: see freshseal expiring")
	f.StringVar(&r.Site, "site", "", "only slots at this site")
	f.StringVar(&r.Family, "family", "", "only slots of devices of this family")
	f.StringVar(&r.Owner, "owner", "", "only slots of this owner")
	f.StringVar(&r.Tag, "tag", "", "only slots of devices with this tag")
	f.StringArrayVar(&r.To, "to", nil, "a channel; may be given again")
	f.StringVar(&r.Digest, "digest", "", "once a day at this time, such as 07:30, instead of at once")
	f.StringVar(&r.Quiet, "quiet", "", "hours in which nothing is sent, such as 22:00-06:00")
	f.StringVar(&r.Zone, "zone", "", "time zone of these hours, such as Europe/Oslo (UTC)")
	f.IntVar(&r.RepeatDays, "repeat", 0, "days between reminders, as long as nothing changes and nobody "+
		"acknowledges; 0: none")
	f.StringArrayVar(&r.Escalate, "escalate", nil, "a channel that reminders go to as well; may be given again")
	f.BoolVar(&r.Recovery, "recovery", false, "notify when it has ended")
	f.BoolVar(&r.Paused, "paused", false, "send nothing until this is false again")
	return c
}

func (a *commands) noticeList() *cobra.Command {
	var rule, slot string
	var most int
	c := &cobra.Command{
		Use: "list", Short: "List the notices, newest first", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var found struct {
				Items []contract.Notice `json:"items"`
			}
			if err := client.Do(ctx, "GET", cli.V1+"/notices?"+url.Values{"rule": {rule}, "slot": {slot},
				"limit": {strconv.Itoa(most)}}.Encode(), nil, &found); err != nil {
				return err
			}
			all := found.Items
			t := cli.Table{Head: []string{"at", "state", "stage", "about", "over"}}
			for _, n := range all {
				stage := n.Stage
				if n.Kind != notice.Begins {
					stage = string(n.Kind) + " " + stage
				}
				t.Add(n.At.Format("01-02 15:04"), n.State, stage, n.About(), n.Over)
			}
			if err := a.Print(all, t); err != nil || a.As != "table" {
				return err
			}
			for _, n := range all {
				if n.Replacement != "" && time.Since(n.At) < 48*time.Hour {
					cli.Put(a.Out, "%s\n  next: %s\n", n.Headline(), cli.OneLine(n.Next))
				}
				if n.State == "failed" {
					cli.Put(a.Out, "%s was not sent: %s\n", n.About(), n.Error)
				}
			}
			return nil
		}),
	}
	c.Flags().StringVar(&rule, "rule", "", "only those of this rule")
	c.Flags().StringVar(&slot, "slot", "", "only those of this slot, DEVICE/SLOT")
	c.Flags().IntVar(&most, "most", 100, "how many at most")
	return c
}

func (a *commands) noticeAcknowledge() *cobra.Command {
	var ask contract.AskAcknowledge
	c := &cobra.Command{
		Use: "acknowledge DEVICE/SLOT", Args: cobra.ExactArgs(1),
		Short: "Acknowledge a slot: no notices until a day, unless it gets worse",
		Example: "  freshseal notice acknowledge lamp.saltmere.tidewrack.example/web --until 2027-01-31 --reason " +
			"\"replaced with the new mast\"",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			device, slot, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			var k contract.Acknowledgement
			if err := client.Do(ctx, "PUT", cli.V1+"/slots"+cli.Item(device, slot)+"/acknowledgement", ask,
				&k); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"slot", "until", "by", "reason"}}
			t.Add(k.Slot, cli.OnDay(&k.Until), k.By, k.Reason)
			return a.Print(k, t)
		}),
	}
	c.Flags().StringVar(&ask.Until, "until", "", "the last day, such as 2027-01-31")
	c.Flags().StringVar(&ask.Reason, "reason", "", "why no notice is needed")
	c.MarkFlagRequired("until")
	c.MarkFlagRequired("reason")
	return c
}
