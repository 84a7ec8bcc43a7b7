package parts

import (
	"errors"
	"io/fs"
	"strings"
	"sync"
	"time"

	"freshseal/standin"
)

// ownAuthority is where a manager keeps the authority with which it signs the
// certificates of the hosts under it.
const ownAuthority = "/etc/warden/authority.pem"

// ownLock is held while the own authority is made.
type ownLock struct{ sync.Mutex }

// Authority opens the manager's own authority, which is made when it is first asked for.
func Authority(r *standin.Running) (*standin.Authority, error) {
	making := standin.StateOf[ownLock](r)
	making.Lock()
	defer making.Unlock()
	text, err := r.Root.ReadFile(standin.Inside(ownAuthority))
	if err == nil {
		own, _, err := standin.OpenAuthorities(text)
		return own, err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	own, err := standin.NewAuthority("Pelorus Manager Authority", nil, standin.OrSystem(r.Random), time.Now())
	if err != nil {
		return nil, err
	}
	if err := r.Root.MkdirAll(standin.Inside(strings.TrimSuffix(ownAuthority, "/authority.pem")), 0o700); err != nil {
		return nil, err
	}
	return own, r.Root.WriteFile(standin.Inside(ownAuthority), append(own.WithKey(), own.WithKey()...), 0o600)
}
