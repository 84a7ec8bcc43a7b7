package standin

import (
	"time"
)

// PowerCycle turns the box off and on again, as a power failure does: it then serves what its files and its staged
// changes say, and what was kept in memory alone is lost. It returns once the box serves again, or does not after its
// time for a restart.
func (r *Running) PowerCycle() error {
	var err error
	if power := makes[r.Kind].Power; power != nil {
		err = power(r)
	} else if err = r.Load(); r.Shared != "" && err == nil {
		err = r.LoadEAP()
	}
	for until := time.Now().Add(r.Restart + 2*time.Second); err == nil && r.Serving.Load() == nil &&
		time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(r.Restart)
	return err
}
