package access

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"freshseal/contract"
	"freshseal/device/https"
	"freshseal/device/links"
	"freshseal/device/netconf"
	"freshseal/device/ssh"
)

// TrySSH tests whether the device can be signed in to.
func (s *Trials) TrySSH(ctx context.Context, site string, target ssh.Target) contract.TryLook {
	look := contract.TryLook{What: "sign in over SSH as " + target.User}
	link, err := ssh.Open(ctx, s.Way(site), target)
	var changed ssh.HostKeyChanged
	switch {
	case err == nil:
		defer link.Close()
		look.OK, look.Said = true, "the host key is the pinned one, and the user is let in; "+abilities(ctx, link)
	case errors.As(err, &changed):
		look.Said, look.Next = err.Error(), "find out why: a new device, a new installation, or somebody in between"
	case errors.Is(err, links.ErrSignIn):
		look.Said, look.Next = err.Error(), "correct the user, the password or the key"
	default:
		look.Said, look.Next = err.Error(), "see that the device is on, and that its address, SSH port and site "+
			"are right"
	}
	return look
}

// TryConfig tests whether the device speaks NETCONF, and what it is able to do.
func (s *Trials) TryConfig(ctx context.Context, site string, target ssh.Target) contract.TryLook {
	look := contract.TryLook{What: "open a session by NETCONF as " + target.User}
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	link, err := ssh.Open(limited, s.Way(site), target)
	if err == nil {
		defer link.Close()
		var channel io.ReadWriteCloser
		if channel, err = link.Subsystem(limited, "netconf"); err == nil {
			var session *netconf.Session
			if session, err = netconf.Open(limited, channel); err == nil {
				defer session.Close(limited)
				look.OK, look.Said = true, fmt.Sprintf("the host key is the pinned one, the user is let in, and it "+
					"has %d capabilities", len(session.Capabilities))
				return look
			}
		}
	}
	look.Said, look.Next = err.Error(), "see that NETCONF over SSH is switched on, and that the address, port, "+
		"user and site of its access are right"
	return look
}

// TryWeb tests whether the web interface answers with the pinned certificate. Nobody signs
// in: how that is done is the family's.
func (s *Trials) TryWeb(ctx context.Context, site string, target https.Target) contract.TryLook {
	look := contract.TryLook{What: "open the web interface at " + target.Address}
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	link, err := https.New(s.Way(site), target)
	if err == nil {
		_, err = link.Do(limited, https.Call{Method: "HEAD", Path: "/"})
	}
	var changed https.PinChanged
	switch {
	case err == nil:
		look.OK, look.Said = true, "its certificate is the pinned one, and it answers"
	case errors.As(err, &changed):
		look.Said, look.Next = err.Error(), "find out why; if the new certificate is right, pin it"
	default:
		look.Said, look.Next = err.Error(), "see that the device is on, and that the address, port and site of its "+
			"access are right"
	}
	return look
}

// abilities describes how files and commands are handled on a device.
func abilities(ctx context.Context, link *ssh.Link) string {
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	able, err := link.Able(limited)
	if err != nil {
		return err.Error()
	}
	way, err := link.Files(nil).Way()
	switch {
	case err != nil && !able.Shell:
		return "it has a command line of its own, and takes neither commands nor files"
	case err != nil:
		return err.Error()
	case able.Sessions:
		return "files go by " + way + "; commands that take too long are ended"
	case able.Shell:
		return "files go by " + way + "; commands that take too long cannot be ended (there is no setsid or no " +
			"/proc), and a person must look then"
	}
	return "files go by " + way + "; there is no POSIX shell"
}
