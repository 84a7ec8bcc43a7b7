package service

import "freshseal/contract"

// Settings shows how the service is set up.
func (s *Service) Settings(version string) contract.Settings {
	every := "only when asked"
	if s.options.ReadEvery > 0 {
		every = s.options.ReadEvery.String()
	}
	return contract.Settings{Version: version, Folder: s.options.Dir, ReadEvery: every, StartedAt: s.started}
}
