package host

import "sync"

// Answers remembers what the operating system has answered, for a run of the
// program: whoever installs something meanwhile asks with new ones.
type Answers struct {
	lock  sync.Mutex
	known map[memory]Answer
}

// memory is a question as it was asked: of which compiler, and whether for the
// version.
type memory struct {
	Question
	cc        string
	versioned bool
}

func (a *Answers) recall(m memory) (Answer, bool) {
	if a == nil {
		return Answer{}, false
	}
	a.lock.Lock()
	defer a.lock.Unlock()
	answer, known := a.known[m]
	return answer, known
}

func (a *Answers) remember(m memory, answer Answer) {
	if a == nil {
		return
	}
	a.lock.Lock()
	defer a.lock.Unlock()
	if a.known == nil {
		a.known = map[memory]Answer{}
	}
	a.known[m] = answer
}
