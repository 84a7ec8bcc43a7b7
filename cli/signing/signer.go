package signing

import (
	"context"
	"fmt"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
)

func (a *commands) signer() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List signers", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			signers, err := cli.ListOf[contract.Signer](ctx, client, "/signers")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"signer", "kind", "about", "signs"}}
			for _, s := range signers {
				t.Add(s.Name, s.Kind, s.About, signs(s.Terms))
			}
			return a.Print(signers, t)
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Delete a signer that has no pending request", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/signers"+cli.Item(args[0]), nil, nil)
		}),
	}
	return cli.Noun("signer", "People and authorities that sign requests", list, a.signerShow(), a.signerSet(),
		a.signerIssuer(), remove)
}

// findSigner returns the signer with this name; one without a name if there is none.
func findSigner(ctx context.Context, client *cli.Client, name string) (contract.Signer, error) {
	all, err := cli.ListOf[contract.Signer](ctx, client, "/signers")
	for _, each := range all {
		if each.Name == name {
			return each, nil
		}
	}
	return contract.Signer{}, err
}

func (a *commands) signerShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a signer with the authorities that it signs with", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			s, err := findSigner(ctx, client, args[0])
			if err != nil {
				return err
			}
			if s.Name == "" {
				return cli.Failed(fmt.Sprintf("no signer is called %q", args[0]), "", "see: freshseal signer list")
			}
			return a.Print(s, signerTable(s))
		}),
	}
}

// signerTable returns a signer, a line for each thing that is known of it.
func signerTable(s contract.Signer) cli.Table {
	shown := cli.Table{Head: []string{"what", "value"}}
	shown.Add("signer", s.Name)
	shown.Add("about", s.About)
	shown.Add("contact", s.Contact)
	turnaround := ""
	if s.TurnaroundDays > 0 {
		turnaround = fmt.Sprintf("%d working days", s.TurnaroundDays)
	}
	shown.Add("turnaround", turnaround)
	lifetime := ""
	switch {
	case s.MinDays > 0 && s.MaxDays > 0:
		lifetime = fmt.Sprintf("%d to %d days", s.MinDays, s.MaxDays)
	case s.MinDays > 0:
		lifetime = fmt.Sprintf("at least %d days", s.MinDays)
	case s.MaxDays > 0:
		lifetime = fmt.Sprintf("up to %d days", s.MaxDays)
	}
	shown.Add("lifetime", lifetime)
	shown.Add("signs", signs(s.Terms))
	shown.Add("profile", s.Terms.Profile)
	shown.Add("wants", strings.Join(s.Terms.Fields, ", "))
	shown.Add("proof", strings.TrimSpace(s.Proof.How+" "+s.Proof.Who))
	order := s.Order.Number
	if s.Order.ApprovedBy != "" {
		order += ", approved by " + s.Order.ApprovedBy
	}
	if s.Order.Until != "" {
		order += ", until " + s.Order.Until
	}
	shown.Add("order", strings.TrimPrefix(order, ", "))
	shown.Add("notes", s.Notes)
	for _, habit := range s.Habits {
		shown.Add("habit", habit)
	}
	for _, i := range s.Issuers {
		how := "learnt from an answer, not confirmed"
		if i.Confirmed {
			how = "confirmed by " + i.KnownBy
		}
		if i.Days > 0 {
			how += fmt.Sprintf("; %s or more", cli.Count(i.Days, "day"))
		}
		shown.Add("issuer", i.Subject)
		shown.Add("  known", how)
		shown.Add("  key", i.KeySHA256)
	}
	return shown
}

// signerIssuer changes with which authorities a signer is expected to sign.
func (a *commands) signerIssuer() *cobra.Command {
	add := &cobra.Command{
		Use: "add SIGNER SHA256", Short: "Record an authority that a signer signs with, or confirm one that " +
			"was learnt", Args: cobra.ExactArgs(2),
		Long: "Record an authority that a signer signs with. SHA256 is that of a root or intermediate that is " +
			"known here\n(freshseal authority list), or of the key of a learnt issuer (freshseal signer show SIGNER).",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var s contract.Signer
			if err := client.Do(ctx, "POST", cli.V1+"/signers"+cli.Item(args[0], "issuers"),
				contract.NewIssuer{SHA256: args[1]}, &s); err != nil {
				return err
			}
			return a.Print(s, signerTable(s))
		}),
	}
	remove := &cobra.Command{
		Use: "remove SIGNER KEY", Short: "Forget an authority of a signer, by the SHA-256 of its key",
		Args: cobra.ExactArgs(2),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/signers"+cli.Item(args[0], "issuers", args[1]), nil, nil)
		}),
	}
	return cli.Noun("issuer", "The authorities that a signer signs with", add, remove)
}

// signs returns what a signer signs, in words.
func signs(t request.Terms) string {
	kind := "any name"
	if t.Public {
		kind = "public names"
	}
	if len(t.Domains) > 0 {
		kind += " under " + strings.Join(t.Domains, ", ")
	}
	if !t.Wildcards {
		kind += ", no wildcards"
	}
	if !t.Addresses {
		kind += ", no addresses"
	}
	return kind
}

func (a *commands) signerSet() *cobra.Command {
	var t contract.SignerTerms
	var keys []string
	c := &cobra.Command{
		Use: "set NAME", Short: "Add or change a signer: a person or office that signs requests",
		Args: cobra.ExactArgs(1),
		Example: "  freshseal signer set harbour-ca --about \"Harbour Authority, certificate desk\" --contact " +
			"desk@harbour.example --turnaround 5 \\\n    --max-days 200 --public --wildcards --field organization " +
			"--notes \"Portal, profile Server; they ask for a DNS record\"",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			for _, k := range keys {
				t.Terms.Keys = append(t.Terms.Keys, request.KeyType(k))
			}
			now, err := findSigner(ctx, client, args[0])
			if err != nil {
				return err
			}
			var s contract.Signer
			if err := client.Change(ctx, "PUT", cli.V1+"/signers"+cli.Item(args[0]), now.Revision, t, &s); err != nil {
				return err
			}
			return a.Print(s, signerTable(s))
		}),
	}
	f := c.Flags()
	f.StringVar(&t.About, "about", "", "a description")
	f.StringVar(&t.Contact, "contact", "", "a contact, such as a mail address")
	f.StringVar(&t.Notes, "notes", "", "notes: the steps of its portal, the profile to choose, how domains are "+
		"validated")
	f.IntVar(&t.TurnaroundDays, "turnaround", 0, "turnaround, in working days")
	f.IntVar(&t.MaxDays, "max-days", 0, "maximum lifetime that it issues, in days; 0: unknown")
	f.IntVar(&t.MinDays, "min-days", 0, "minimum lifetime that it issues, in days; a shorter one waits for a "+
		"person; 0: unknown")
	f.StringVar(&t.Terms.Profile, "profile", "", "the certificate profile to choose")
	f.BoolVar(&t.Terms.Public, "public", false, "publicly trusted: signs no internal names")
	f.BoolVar(&t.Terms.Wildcards, "wildcards", false, "signs *.domain")
	f.StringArrayVar(&t.Terms.Domains, "domain", nil, "a domain under which it signs (default: any); may be "+
		"given again")
	f.BoolVar(&t.Terms.Addresses, "addresses", false, "signs IP addresses")
	f.StringVar(&t.Proof.How, "proof", "", "how it validates domains: mail, dns or file")
	f.StringVar(&t.Proof.Who, "prover", "", "who performs the validation")
	f.IntVar(&t.Proof.Days, "proof-days", 0, "how long a validation is valid, in days; 0: for one parcel")
	f.StringVar(&t.Order.Number, "order", "", "the number of the purchase by which it signs")
	f.StringVar(&t.Order.ApprovedBy, "order-approved-by", "", "who approved that purchase")
	f.StringVar(&t.Order.Until, "order-until", "", "its last day, such as 2028-06-30; its end is among what "+
		"else expires")
	f.StringArrayVar(&t.Terms.Fields, "field", nil, "a required subject field: organization, unit, locality, "+
		"state, country or email; may be given again")
	f.StringArrayVar(&keys, "sign-key", nil, "a key type that it signs (default: any); may be given again")
	return c
}
