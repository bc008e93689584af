package source

import (
	"context"
	"errors"
	"net/url"
	"slices"
	"sync"
)

// Hosts is what a run of the program knows about the hosts that it fetches from: the number of
// current transfers, and which hosts have failed. The nil pointer knows nothing and limits
// nothing.
type Hosts struct {
	most int           // transfers at once from each
	all  chan struct{} // turns of all transfers

	lock   sync.Mutex
	under  map[string]chan struct{}
	failed map[string]int
}

// NewHosts limits the number of transfers, in all and from each host.
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

// enter waits until one more transfer from the URL's host may begin, and then for one of the
// overall turns: waiting for a slow host takes no turn from others. The returned function ends
// the transfer.
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

// tried records the outcome of a transfer. A wrong or missing file says nothing about others.
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

// order moves the URLs of failed hosts to the end, and otherwise keeps the order of the recipe.
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
