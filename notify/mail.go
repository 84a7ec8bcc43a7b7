package notify

import (
	"context"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"slices"
	"strings"

	"freshseal/core/judgement/notice"

	"github.com/wneessen/go-mail"
)

const mostRecipients = 50

func (c Channel) checkMail() error {
	if err := c.checkServer(StartTLS, TLS, Plain); err != nil {
		return err
	}
	if len(c.To) == 0 {
		return errors.New("it has no recipient")
	}
	if len(c.To)+len(c.Owners) > 10*mostRecipients || len(c.To) > mostRecipients {
		return fmt.Errorf("it has more than %d recipients", mostRecipients)
	}
	all := append([]string{c.From}, c.To...)
	for _, address := range c.Owners {
		all = append(all, strings.Split(address, ",")...)
	}
	for _, address := range all {
		if a, err := netmail.ParseAddress(address); err != nil || strings.ContainsAny(a.Address, "\r\n") {
			return fmt.Errorf("%q is not a mail address", address)
		}
	}
	if c.Security == Plain && c.User != "" && !near(c.Address) {
		return errors.New("a password is not sent without TLS")
	}
	return nil
}

// recipients returns those of an owner: an address of its own, or everybody's.
func (c Channel) recipients(owner string) []string {
	if own := c.Owners[owner]; own != "" {
		var out []string
		for _, each := range strings.Split(own, ",") {
			out = append(out, strings.TrimSpace(each))
		}
		return out
	}
	return slices.Clone(c.To)
}

// mail sends a message by SMTP (RFC 5321), with STARTTLS (RFC 3207) and AUTH (RFC 4954). Its Message-ID is made of
// the message's id.
func (s Sender) mail(ctx context.Context, c Channel, password Secret, group string, m notice.Message) error {
	made := mail.NewMsg(mail.WithNoDefaultUserAgent())
	_, host, _ := strings.Cut(c.From, "@")
	if err := errors.Join(made.From(c.From), made.To(strings.Split(group, ",")...)); err != nil {
		return err
	}
	made.Subject(m.Subject())
	made.SetMessageIDWithValue(m.ID + "@" + strings.TrimSuffix(host, ">"))
	made.SetDateWithValue(m.At)
	made.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's absence answers it
	made.SetBodyString(mail.TypeTextPlain, m.Text())
	options := []mail.Option{mail.WithPort(c.Port), mail.WithTimeout(sendLimit),
		mail.WithTLSConfig(c.config(c.Address)), mail.WithoutNoop(),
		mail.WithDialContextFunc(func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := s.Dial(ctx, network, address)
			if err != nil || c.Security != TLS {
				return conn, err
			}
			return c.secured(ctx, conn)
		})}
	switch c.Security {
	case StartTLS:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case TLS, Plain: // for the former, the connection speaks it already
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if c.User != "" {
		auth := mail.SMTPAuthAutoDiscover
		if c.Security == Plain || c.Security == TLS {
			// the library does not see that the connection is protected, or that it stays on this machine
			auth = mail.SMTPAuthPlainNoEnc
		}
		options = append(options, mail.WithSMTPAuth(auth), mail.WithUsername(c.User), mail.WithPassword(password))
	}
	client, err := mail.NewClient(c.Address, options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, made)
}
