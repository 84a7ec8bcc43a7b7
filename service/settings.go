package service

import (
	"time"
)

// Settings say how the service is set up; it is set up where it is started, so
// they can be looked at and not changed here.
type Settings struct {
	Version   string    `json:"version" required:"true"`
	Folder    string    `json:"folder" required:"true" description:"everything that outlives the process"`
	ReadEvery string    `json:"read_every" required:"true" description:"how often the whole fleet is read"`
	StartedAt time.Time `json:"started_at" required:"true"`
}

// Settings shows them.
func (s *Service) Settings(version string) Settings {
	every := "only when asked"
	if s.options.ReadEvery > 0 {
		every = s.options.ReadEvery.String()
	}
	return Settings{version, s.options.Dir, every, s.started}
}
