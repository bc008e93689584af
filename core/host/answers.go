package host

import "sync"

// Answers remembers the answers of the operating system for a run of the program: after
// installing something, ask with new ones.
type Answers struct {
	lock  sync.Mutex
	known map[memory]Answer
}

// memory is a question, with the compiler and whether the version was asked for.
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
