package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"freshseal/core/procedure"
	"freshseal/device/ssh"
)

// Try is what became of trying a device: link by link, with nothing changed.
type Try struct {
	Device string    `json:"device" required:"true"`
	OK     bool      `json:"ok" required:"true"`
	Looks  []TryLook `json:"looks" required:"true"`
	At     time.Time `json:"at" required:"true"`
}

// TryLook is one thing that was tried.
type TryLook struct {
	What string `json:"what" required:"true"`
	OK   bool   `json:"ok" required:"true"`
	Said string `json:"said,omitempty"`
	Next string `json:"next,omitempty"`
}

// TryDevice tries whether a device can be reached, signed in to and read.
func (s *Service) TryDevice(ctx context.Context, name string) (Try, error) {
	d, err := s.store.Device(ctx, name)
	if err != nil {
		return Try{}, notFound(err, "see: freshseal device list", "no device is called %s", name)
	}
	out := Try{Device: name, OK: true, At: s.now(), Looks: []TryLook{}}
	add := func(look TryLook) {
		out.OK = out.OK && look.OK
		out.Looks = append(out.Looks, look)
	}
	if p, err := s.Procedure(d.Family); err == nil && p.Uses(procedure.SSH) {
		target, err := s.target(ctx, d)
		if err != nil {
			return out, err
		}
		add(s.trySSH(ctx, d.Site, target))
	}
	slots, err := s.store.SlotsOf(ctx, name)
	if err != nil {
		return out, err
	}
	for _, slot := range slots {
		look := TryLook{What: fmt.Sprintf("read the slot %s at %s port %d", slot.Name, slot.Address, slot.Port)}
		reading, err := s.read(ctx, slot)
		if err != nil {
			return out, err
		}
		if leaf := reading.Leaf(); leaf != nil {
			look.OK, look.Said = true, fmt.Sprintf("it serves “%s” until %s", leaf.ShortName(), leaf.NotAfter.Format(time.DateOnly))
		} else {
			look.Said, look.Next = reading.Why.What, reading.Why.Remedy
		}
		add(look)
	}
	return out, nil
}

// trySSH signs in and does nothing.
func (s *Service) trySSH(ctx context.Context, site string, target ssh.Target) TryLook {
	look := TryLook{What: "sign in over SSH as " + target.User}
	link, err := ssh.Open(ctx, s.way(site), target)
	var changed ssh.HostKeyChanged
	switch {
	case err == nil:
		defer link.Close()
		look.OK, look.Said = true, "the host key is the pinned one, and the user is let in; "+abilities(ctx, link)
	case errors.As(err, &changed):
		look.Said, look.Next = err.Error(), "find out why: a new device, a new installation, or somebody in between"
	case errors.Is(err, ssh.ErrSignIn):
		look.Said, look.Next = err.Error(), "correct the user, the password or the key"
	default:
		look.Said, look.Next = err.Error(), "see that the device is on, and that its address, SSH port and site are right"
	}
	return look
}

// abilities says how files go to a device, and what becomes of commands there.
func abilities(ctx context.Context, link *ssh.Link) string {
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	way, err := link.Files(nil).Way()
	if err != nil {
		return err.Error()
	}
	able, err := link.Able(limited)
	switch {
	case err != nil:
		return err.Error()
	case able.Sessions:
		return "files go by " + way + "; commands that take too long are ended"
	case able.Shell:
		return "files go by " + way + "; commands that take too long cannot be ended (there is no setsid or no /proc), and a person must look then"
	}
	return "files go by " + way + "; there is no POSIX shell"
}
