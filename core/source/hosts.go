package source

import (
	"context"
	"errors"
	"net/url"
	"slices"
	"sync"
)

// Hosts is what a run of the program knows of the hosts that it fetches from: how
// many transfers are under way, and which have failed. The zero pointer knows
// nothing and limits nothing.
type Hosts struct {
	most int           // transfers at once from each
	all  chan struct{} // turns of all transfers

	lock   sync.Mutex
	under  map[string]chan struct{}
	failed map[string]int
}

// NewHosts allows that many transfers at once, and from each host.
func NewHosts(all, most int) *Hosts {
	return &Hosts{most: max(most, 1), all: make(chan struct{}, max(all, 1)), under: map[string]chan struct{}{},
		failed: map[string]int{}}
}

func hostOf(source string) string {
	if u, err := url.Parse(source); err == nil {
		return u.Host
	}
	return ""
}

// enter waits until one more transfer from the URL's host may begin, and then for one
// of all the turns: who waits for a slow host takes no turn from others. The returned
// function says that the transfer has ended.
func (h *Hosts) enter(ctx context.Context, source string) (func(), error) {
	host := hostOf(source)
	if h == nil {
		return func() {}, nil
	}
	h.lock.Lock()
	turn := h.under[host]
	if turn == nil {
		turn = make(chan struct{}, h.most)
		h.under[host] = turn
	}
	h.lock.Unlock()
	for i, wanted := range []chan struct{}{turn, h.all} {
		select {
		case wanted <- struct{}{}:
		case <-ctx.Done():
			if i > 0 {
				<-turn
			}
			return nil, ctx.Err()
		}
	}
	return func() { <-h.all; <-turn }, nil
}

// tried notes what came of a transfer. That one file is wrong or absent says
// nothing of others.
func (h *Hosts) tried(source string, err error) {
	host := hostOf(source)
	if h == nil || host == "" {
		return
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	var status *statusError
	switch {
	case err == nil:
		delete(h.failed, host)
	case errors.As(err, new(*DigestError)), errors.As(err, new(*StoreError)), errors.As(err, &status) && status.code < 500,
		errors.Is(err, context.Canceled):
	default:
		h.failed[host]++
	}
}

// order puts the URLs of hosts that have failed behind the others, and else
// leaves them as the recipe has them.
func (h *Hosts) order(urls []string) []string {
	if h == nil {
		return urls
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	ordered := slices.Clone(urls)
	slices.SortStableFunc(ordered, func(a, b string) int { return h.failed[hostOf(a)] - h.failed[hostOf(b)] })
	return ordered
}
