package standin

import (
	"time"
)

// PowerCycle turns the box off and on again, as a power failure does: it then serves what its files and its staged
// changes say, and what was kept in memory alone is lost. It returns once the box serves again, or does not after its
// time for a restart.
func (r *Running) PowerCycle() error {
	var err error
	switch r.Kind {
	case NetworkGear:
		return r.Reboot()
	case VoiceManager:
		err = r.voicectl([]string{"restart", "web"})
	case SignOnServer:
		if _, staged := r.root.Stat(inside(nextChain)); staged == nil {
			err = r.use()
		} else {
			err = r.load()
		}
	case PlantRoom:
		pair, plantErr := r.plantPair()
		r.serving.Store(pair)
		err = plantErr
	case Collector:
		err = r.loadFrom(tallyFolder+"/server.crt", tallyFolder+"/server.key")
	case StopServer:
		r.stopped.lock.Lock()
		set := r.dockSettings()
		r.stopped.lock.Unlock()
		err = r.loadFrom(set["certificate"], set["key"])
	case SiteServer:
		err = r.sitePower()
	default:
		err = r.load()
		if r.Shared != "" && err == nil {
			err = r.loadEAP()
		}
	}
	for until := time.Now().Add(r.Restart + 2*time.Second); err == nil && r.serving.Load() == nil &&
		time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(r.Restart)
	return err
}
