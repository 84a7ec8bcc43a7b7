package notices

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/notice"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/notify"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/messages"
)

const (
	mostChannels = 100
	leastKey     = 32 // characters of a webhook's key
)

func purpose(channel string) string { return "channel/" + channel }

// Channels returns all channels by name.
func (s *Service) Channels(ctx context.Context) ([]contract.Channel, error) {
	rows, err := s.store.Channels.List(ctx)
	out := []contract.Channel{}
	for _, row := range rows {
		c, err := s.show(ctx, row)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, err
}

func (s *Service) show(ctx context.Context, row messages.Channel) (contract.Channel, error) {
	out := contract.Channel{Name: row.Name, Revision: row.Revision}
	var setup notify.Channel
	if err := json.Unmarshal([]byte(row.Terms), &setup); err != nil {
		return out, err
	}
	out.ChannelSetup = contract.ChannelSetup(setup)
	secret, err := s.secret(ctx, row.Name)
	out.Secret = secret != ""
	return out, err
}

func (s *Service) secret(ctx context.Context, channel string) (string, error) {
	sealed, err := s.store.Secrets.Get(ctx, purpose(channel))
	if err != nil {
		if err == store.ErrNotFound {
			return "", nil
		}
		return "", err
	}
	text, err := s.box.Open(purpose(channel), sealed)
	return string(text), err
}

// Channel shows one channel.
func (s *Service) Channel(ctx context.Context, name string) (contract.Channel, error) {
	row, err := s.store.Channels.Get(ctx, name)
	if err != nil {
		return contract.Channel{}, problem.Missing(err, next.ListChannels, "no channel is called %s", name)
	}
	return s.show(ctx, row)
}

// usual fills in what is left out.
func usual(c notify.Channel) notify.Channel {
	if c.Kind == notify.Mail && c.Security == "" {
		c.Security = notify.StartTLS
	}
	if c.Kind == notify.Syslog && c.Security == "" {
		c.Security = notify.TLS
	}
	if c.Port == 0 {
		c.Port = map[string]int{"mail/starttls": 587, "mail/tls": 465, "mail/plain": 25, "syslog/tls": 6514,
			"syslog/plain": 601}[string(c.Kind)+"/"+string(c.Security)]
	}
	c.Pin = strings.ToLower(strings.ReplaceAll(c.Pin, ":", ""))
	return c
}

// SetChannel sets a channel, a new one or one of a known revision. A secret counts for the server that it was given
// for: who changes that gives it again.
func (s *Service) SetChannel(ctx context.Context, name string, n contract.NewChannel,
	known problem.Revision) (contract.Channel, error) {
	cannot := "the channel " + name + " was not set"
	if !naming.Label(name) {
		return contract.Channel{}, problem.Reject(cannot, fmt.Sprintf("%q is not a valid name", name), naming.Rule)
	}
	setup := usual(notify.Channel(n.ChannelSetup))
	n.ChannelSetup = contract.ChannelSetup(setup)
	if err := setup.Check(); err != nil {
		return contract.Channel{}, problem.Reject(cannot, err.Error(), "correct it and try again")
	}
	before, err := s.channelBefore(ctx, name, cannot)
	if err != nil {
		return contract.Channel{}, err
	}
	if err := checkSecret(n, before, cannot); err != nil {
		return contract.Channel{}, err
	}
	terms, err := json.Marshal(setup)
	if err != nil {
		return contract.Channel{}, err
	}
	secrets := map[string][]byte{}
	if n.Secret != "" {
		secrets[purpose(name)] = s.box.Seal(purpose(name), []byte(n.Secret))
	}
	if err := s.store.Channels.Put(ctx, messages.Channel{Name: name, Terms: string(terms), AddedAt: s.moment()},
		secrets,
		known); err != nil {
		return contract.Channel{}, problem.Outdated(err)
	}
	audit.Differences(ctx, facts(notify.Channel(before.ChannelSetup)), facts(setup))
	if n.Secret != "" {
		audit.Say(ctx, "a new secret")
	}
	s.changed()
	return s.Channel(ctx, name)
}

// channelBefore returns a channel as it is; one that is not there is empty, if there is room for it.
func (s *Service) channelBefore(ctx context.Context, name, cannot string) (contract.Channel, error) {
	row, err := s.store.Channels.Get(ctx, name)
	switch {
	case err == nil:
		return s.show(ctx, row)
	case err != store.ErrNotFound:
		return contract.Channel{}, err
	}
	all, err := s.store.Channels.List(ctx)
	if err == nil && len(all) >= mostChannels {
		err = problem.New(problem.Conflict, cannot, fmt.Sprintf("there are %d channels", mostChannels),
			"remove one first", next.ListChannels.On(""))
	}
	return contract.Channel{Name: name}, err
}

// checkSecret checks that a channel has the secret that it needs, and sends it to no other server than before.
func checkSecret(n contract.NewChannel, before contract.Channel, cannot string) error {
	moved := before.Address != n.Address || before.Port != n.Port || before.URL != n.URL || before.Pin != n.Pin ||
		before.Security != n.Security || before.User != n.User
	switch {
	case n.Kind == notify.Webhook && n.Secret != "" && len(n.Secret) < leastKey, n.Kind == notify.Webhook &&
		n.Secret == "" && !before.Secret:
		return problem.Reject(cannot, "the key that signs its messages is too short",
			fmt.Sprintf("give a key of at least %d characters, which the receiver knows too", leastKey),
			next.Give.On("secret"))
	case n.Kind == notify.Mail && n.User != "" && n.Secret == "" && !before.Secret:
		return problem.Reject(cannot, "there is no password for the user "+n.User, "give it", next.Give.On("secret"))
	case before.Secret && n.Secret == "" && moved:
		return problem.Reject(cannot, "its secret was given for another server", "give the secret again",
			next.Give.On("secret"))
	case len(n.Secret) > 1000:
		return problem.Reject(cannot, "the secret is too long", "give at most 1000 characters", next.Give.On("secret"))
	}
	return nil
}

// facts returns what people say of a channel, for the audit log. The address of a webhook may hold a secret.
func facts(c notify.Channel) map[string]string {
	out := map[string]string{"kind": string(c.Kind), "at": fmt.Sprintf("%s:%d", c.Address, c.Port),
		"security": string(c.Security), "pin": c.Pin, "from": c.From, "to": strings.Join(c.To, " "), "user": c.User}
	for _, owner := range slices.Sorted(maps.Keys(c.Owners)) {
		out["of "+owner] = c.Owners[owner]
	}
	if c.URL != "" {
		out["url"] = "set"
	}
	return out
}

// RemoveChannel deletes a channel that no rule uses.
func (s *Service) RemoveChannel(ctx context.Context, name string) error {
	rules, err := s.store.Channels.Rules(ctx)
	if err != nil {
		return err
	}
	for _, r := range rules {
		if slices.Contains(append(slices.Clone(r.Terms.V.To), r.Terms.V.Escalate...), name) {
			return problem.New(problem.Conflict, name+" was not removed", "the rule "+r.Name+" sends to it",
				"change that rule first", next.ListNoticeRules.On(""))
		}
	}
	stream, err := s.store.Streams.Get(ctx)
	if err != nil {
		return err
	}
	if name != "" && (stream.Channel == name || stream.HeadChannel == name) {
		return problem.New(problem.Conflict, name+" was not removed", "the audit log is sent to it",
			"send it elsewhere first, or to none")
	}
	return problem.Missing(s.store.Channels.Remove(ctx, name, purpose(name)), next.ListChannels,
		"no channel is called %s", name)
}

// TryChannel sends a message that only says that it is one.
func (s *Service) TryChannel(ctx context.Context, name string) (contract.Trial, error) {
	c, err := s.Channel(ctx, name)
	if err != nil {
		return contract.Trial{}, err
	}
	secret, err := s.secret(ctx, name)
	if err != nil {
		return contract.Trial{}, err
	}
	at := s.now()
	m := notice.Message{ID: newID("m"), At: at, Service: s.sender.Name, URL: s.console(),
		Items: []notice.Item{{ID: newID("n"), Kind: notice.Trial, Stage: "trial", Why: "somebody tries the channel " +
			name, At: at}}}
	if err := s.sender.Send(ctx, notify.Channel(c.ChannelSetup), secret, notify.Channel(c.ChannelSetup).Group(""),
		m); err != nil {
		return contract.Trial{Why: err.Error()}, nil
	}
	return contract.Trial{Sent: true}, nil
}
