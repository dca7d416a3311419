package ground

import "sync"

// Traffic is what travelled of a project, in bytes as they go over the wire: brought by people, and fetched by them.
type Traffic struct{ Brought, Fetched int64 }

// traffic adds up what travels until it is written down.
type traffic struct {
	mu sync.Mutex
	of map[int64]Traffic
}

// Travelled notes that bytes of a project travelled.
func (s *Ground) Travelled(project, brought, fetched int64) {
	s.traffic.mu.Lock()
	defer s.traffic.mu.Unlock()
	if s.traffic.of == nil {
		s.traffic.of = map[int64]Traffic{}
	}
	t := s.traffic.of[project]
	s.traffic.of[project] = Traffic{t.Brought + brought, t.Fetched + fetched}
}

// TakeTraffic is what travelled since it was last taken, by project.
func (s *Ground) TakeTraffic() map[int64]Traffic {
	s.traffic.mu.Lock()
	defer s.traffic.mu.Unlock()
	taken := s.traffic.of
	s.traffic.of = nil
	return taken
}
