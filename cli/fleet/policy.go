package fleet

import (
	"context"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
)

func (a *commands) policy() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the rules of the fleet, and of sites and devices that have their own",
		Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Policy](ctx, client, "/policies")
			if err != nil {
				return err
			}
			return printPolicies(a, all, all)
		}),
	}
	var renewal, margin, turnaround, rsa, ec, life, minutes, signed int
	var names, prefixes, domains, windows, freezes []string
	var approval, signer, key, renewalKey string
	var keep, weak, short, addresses, cluster, wildcard, oldSubject, revocation, holidays, rootsFirst bool
	set := &cobra.Command{
		Use: "set fleet|site/NAME|tag/NAME|device/NAME", Short: "Set rules; only the given flags take effect",
		Args: cobra.ExactArgs(1),
		Example: "  freshseal policy set fleet --window \"DTSTART;TZID=Europe/Oslo:20261201T220000 " +
			"RRULE:FREQ=WEEKLY;BYDAY=TU,TH DURATION:PT4H\" \\\n    --freeze \"2026-12-20/2027-01-03 end of the year\"",
	}
	set.RunE = a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
		all, err := cli.ListOf[contract.Policy](ctx, client, "/policies")
		if err != nil {
			return err
		}
		p := contract.Policy{Scope: args[0]}
		for _, each := range all {
			if each.Scope == args[0] {
				p = each
			}
		}
		for flag, f := range map[string]struct {
			to   **int
			from *int
		}{
			"renewal": {&p.Rules.RenewalDays, &renewal}, "margin": {&p.Rules.MarginDays, &margin},
			"turnaround": {&p.Rules.TurnaroundDays, &turnaround},
			"min-rsa":    {&p.Rules.MinRSABits, &rsa}, "min-ec": {&p.Rules.MinECBits, &ec},
			"max-lifetime": {&p.Rules.MaxLifetimeDays, &life}, "read-minutes": {&p.Rules.ReadMinutes, &minutes},
			"keep-signed": {&p.Rules.KeepSignedDays, &signed},
		} {
			if set.Flags().Changed(flag) {
				*f.to = f.from
			}
		}
		for flag, f := range map[string]struct {
			to   **bool
			from *bool
		}{
			"keep-keys": {&p.Rules.KeepKeys, &keep}, "check-revocation": {&p.Rules.Revocation, &revocation},
			"weak-keys": {&p.Rules.WeakKeys, &weak}, "old-subject": {&p.Rules.OldSubject, &oldSubject},
			"short-names":   {&p.Rules.ShortNames, &short},
			"node-wildcard": {&p.Rules.NodeWildcard, &wildcard}, "address-names": {&p.Rules.AddressNames, &addresses},
			"cluster-names":   {&p.Rules.ClusterNames, &cluster},
			"keep-holidays":   {&p.Rules.KeepHolidays, &holidays},
			"root-pins-first": {&p.Rules.RootPinsFirst, &rootsFirst},
		} {
			if set.Flags().Changed(flag) {
				*f.to = f.from
			}
		}
		for flag, f := range map[string]struct {
			to   **string
			from *string
		}{"approval": {&p.Rules.Approval, &approval}, "signer": {&p.Rules.Signer, &signer},
			"renewal-key": {&p.Rules.RenewalKey, &renewalKey}} {
			if set.Flags().Changed(flag) {
				*f.to = f.from
			}
		}
		if set.Flags().Changed("key") {
			kind := request.KeyType(key)
			p.Rules.Key = &kind
		}
		if set.Flags().Changed("require-name") {
			p.Rules.RequiredNames = names
		}
		if set.Flags().Changed("name-prefix") {
			p.Rules.NamePrefixes = prefixes
		}
		for flag, f := range map[string]struct{ to, from *[]string }{"window": {&p.Rules.Windows, &windows},
			"freeze": {&p.Rules.Freezes, &freezes}} {
			if set.Flags().Changed(flag) {
				*f.to = slices.DeleteFunc(*f.from, func(text string) bool { return text == "" }) // one empty text: none
			}
		}
		if set.Flags().Changed("service-domain") {
			p.Rules.ServiceDomains = domains
		}
		var kept contract.Policy
		if err := client.Change(ctx, "PUT", cli.V1+"/policies", p.Revision,
			contract.NewPolicy{Scope: p.Scope, Rules: p.Rules}, &kept); err != nil {
			return err
		}
		return printPolicies(a, kept, []contract.Policy{kept})
	})
	f := set.Flags()
	f.IntVar(&renewal, "renewal", 0, "renewal period before expiry, in days")
	f.IntVar(&margin, "margin", 0, "safety margin before expiry, in days")
	f.IntVar(&turnaround, "turnaround", 0, "turnaround of the signer, in days")
	f.IntVar(&minutes, "read-minutes", 0, "interval between readings, in minutes")
	f.IntVar(&rsa, "min-rsa", 0, "minimum size of RSA keys, in bits")
	f.IntVar(&ec, "min-ec", 0, "minimum size of elliptic curve keys, in bits")
	f.IntVar(&life, "max-lifetime", 0, "maximum lifetime of a certificate, in days; 0: any")
	f.IntVar(&signed, "keep-signed", 30, "how long a signed certificate is kept for another try after a "+
		"replacement went back, in days")
	f.BoolVar(&keep, "keep-keys", false, "keep keys that the service made after they were installed")
	f.StringVar(&approval, "approval", "", "who approves a replacement: nobody, anybody, or another than the requester")
	f.StringArrayVar(&names, "require-name", nil, "a name that every certificate must include; may be given again")
	f.StringVar(&signer, "signer", "", "default signer")
	f.StringVar(&key, "key", "", "default key type")
	f.StringVar(&renewalKey, "renewal-key", "", "key of a replacement: new, or same to keep the current key")
	f.BoolVar(&oldSubject, "old-subject", true, "copy the subject of the current certificate")
	f.BoolVar(&weak, "weak-keys", false, "allow RSA 1024 and SHA-1; for single devices only")
	f.BoolVar(&revocation, "check-revocation", false, "ask OCSP responders and fetch revocation lists")
	f.BoolVar(&short, "short-names", false, "also request the short form of each name")
	f.BoolVar(&addresses, "address-names", false, "also request the IP addresses of device and slot")
	f.BoolVar(&cluster, "cluster-names", false, "also request the names of the cluster and its other members")
	f.StringArrayVar(&prefixes, "name-prefix", nil, "also request this label in the domain of the slot's name, and "+
		"in the service domains; may be given again")
	f.StringArrayVar(&domains, "service-domain", nil, "a domain that the service answers for: also request it with "+
		"the name prefixes, or by itself; may be given again")
	f.BoolVar(&wildcard, "node-wildcard", false, "request a wildcard instead of the names of nodes, where the "+
		"signer allows it")
	f.StringArrayVar(&windows, "window", nil, "when devices may be touched: DTSTART, DURATION and RRULE (RFC "+
		"5545); may be given again; empty: at any time")
	f.StringArrayVar(&freezes, "freeze", nil, "when no device is touched: FROM/UNTIL and a reason; may be given "+
		"again; empty: none")
	f.BoolVar(&holidays, "keep-holidays", false, "touch no device on the holidays of its site")
	f.BoolVar(&rootsFirst, "root-pins-first", false, "wait until those who pinned a root have confirmed that they "+
		"trust the new one")
	return cli.Noun("policy", "Rules for the fleet, for sites and for devices", list, set)
}

// printPolicies prints the numbers of rules as a table, and the rest in words.
func printPolicies(a *commands, shown any, all []contract.Policy) error {
	t := cli.Table{Head: []string{"scope", "renewal", "margin", "turnaround", "min_rsa", "min_ec", "lifetime"}}
	show := func(n *int) string {
		if n == nil {
			return ""
		}
		return strconv.Itoa(*n)
	}
	for _, p := range all {
		r := p.Rules
		t.Add(p.Scope, show(r.RenewalDays), show(r.MarginDays), show(r.TurnaroundDays), show(r.MinRSABits),
			show(r.MinECBits), show(r.MaxLifetimeDays))
	}
	if err := a.Print(shown, t); err != nil || a.As != "table" {
		return err
	}
	cli.Putln(a.Out)
	for _, p := range all {
		if more := moreRules(p.Rules); more != "" {
			cli.Put(a.Out, "%s: %s\n", p.Scope, more)
		}
	}
	return nil
}

// moreRules tells the rules that are no numbers, in words.
func moreRules(r policy.Rules) string {
	var out []string
	for _, each := range []struct {
		word string
		rule *string
	}{{"approved by ", r.Approval}, {"signer ", r.Signer}, {"key ", (*string)(r.Key)},
		{"renewal with key: ", r.RenewalKey}} {
		if each.rule != nil && *each.rule != "" {
			out = append(out, each.word+*each.rule)
		}
	}
	for _, each := range []struct {
		word string
		rule *bool
	}{{"keys kept", r.KeepKeys}, {"revocation checked", r.Revocation}, {"weak keys", r.WeakKeys},
		{"short names", r.ShortNames}, {"address names", r.AddressNames}, {"cluster names", r.ClusterNames},
		{"wildcard for nodes", r.NodeWildcard}, {"not on holidays", r.KeepHolidays},
		{"root pins first", r.RootPinsFirst}} {
		if policy.Is(each.rule) {
			out = append(out, each.word)
		}
	}
	if r.OldSubject != nil && !*r.OldSubject {
		out = append(out, "subject not taken over")
	}
	for _, label := range r.NamePrefixes {
		out = append(out, "name "+label+".…")
	}
	for _, name := range r.RequiredNames {
		out = append(out, "name "+name)
	}
	for _, domain := range r.ServiceDomains {
		out = append(out, "service domain "+domain)
	}
	for _, w := range r.Windows {
		out = append(out, "window "+w)
	}
	for _, f := range r.Freezes {
		out = append(out, "freeze "+f)
	}
	return strings.Join(out, ", ")
}

// due lists what must be done, soonest first.
func (a *commands) due() *cobra.Command {
	var within int
	var site string
	c := &cobra.Command{
		Use: "due", Short: "List what to do, most urgent first", Args: cobra.NoArgs,
		Long: "List what to do, most urgent first: devices that let nobody in once their certificate has expired, " +
			"where that is near;\nthen expired, unexpected and faulty certificates; then by act-by date; factory " +
			"certificates last.",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var found contract.Due
			if err := client.Do(ctx, "GET", cli.V1+"/due?"+url.Values{"within": {strconv.Itoa(within)},
				"site": {site}}.Encode(), nil, &found); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"act_by", "slot", "condition", "ends"}}
			if a.As != "table" {
				t.Head = append(t.Head, "locks_out")
			}
			for _, s := range found.Items {
				cells := []any{cli.OnDay(s.ActBy), s.Device + "/" + s.Name, s.Condition, cli.OnDay(s.ExpiresAt)}
				if a.As != "table" {
					cells = append(cells, cli.Yes(s.LocksOut))
				}
				t.Add(cells...)
			}
			if found.Total == 0 && a.As == "table" {
				cli.Put(a.Out, "nothing has to be done within %d days\n", within)
				return nil
			}
			if err := a.Print(found.Items, t); err != nil || a.As != "table" {
				return err
			}
			if n := found.Total - len(found.Items); n > 0 {
				cli.Put(a.Out, "and %d more\n", n)
			}
			return nil
		}),
	}
	c.Flags().IntVar(&within, "within", 30, "how many days to look ahead")
	c.Flags().StringVar(&site, "site", "", "only slots at this site")
	return c
}
