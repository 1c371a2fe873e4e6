package account

import "sync"

// changes tells whoever holds something open for a person that somebody's rights, sessions or
// tokens changed: what no longer holds ends at once. Its zero value is ready.
type changes struct {
	mu   sync.Mutex
	next chan struct{} // closed by the next change
}

// Changed is closed at the next change of anybody's rights, sessions or tokens.
func (s *Accounts) Changed() <-chan struct{} {
	s.changes.mu.Lock()
	defer s.changes.mu.Unlock()
	if s.changes.next == nil {
		s.changes.next = make(chan struct{})
	}
	return s.changes.next
}

func (c *changes) tell() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next != nil {
		close(c.next)
		c.next = nil
	}
}
