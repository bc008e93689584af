// Package upstream stands in for the sites that source archives are fetched
// from. It serves files on a loopback port, and misbehaves on request:
//
//	/dl/            lists the files
//	/dl/FILE        serves it
//	/git/FILE       serves it too, for repositories
//	/tampered/FILE  serves something else of the same length
//	/cut/FILE       breaks the connection off half-way
//	/slow/FILE      serves it in small pieces, a tenth of a second apart
//
// Anything else is not found.
package upstream

import (
	"fmt"
	"maps"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// A Site is a stand-in that is up.
type Site struct {
	URL    string // http://127.0.0.1:PORT
	server *http.Server

	lock  sync.Mutex
	asked []string
}

// Start serves files by name until Close is called.
func Start(files map[string][]byte) (*Site, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Site{URL: "http://" + listener.Addr().String()}
	s.server = &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.lock.Lock()
		s.asked = append(s.asked, r.URL.Path)
		s.lock.Unlock()
		how, name, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
		if how == "dl" && name == "" {
			list(w, files)
			return
		}
		data, found := files[name]
		if !found {
			http.NotFound(w, r)
			return
		}
		serve(w, r, how, data)
	})}
	go s.server.Serve(listener)
	return s, nil
}

// Close ends the site at once.
func (s *Site) Close() error { return s.server.Close() }

// Asked returns the paths that were asked for, in order.
func (s *Site) Asked() []string {
	s.lock.Lock()
	defer s.lock.Unlock()
	return append([]string{}, s.asked...)
}

// list is the page that names what can be downloaded.
func list(w http.ResponseWriter, files map[string][]byte) {
	w.Header().Set("Content-Type", "text/html")
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if !strings.Contains(name, "/") {
			fmt.Fprintf(w, "<a href=%q>%s</a>\n", name, name)
		}
	}
}

func serve(w http.ResponseWriter, r *http.Request, how string, data []byte) {
	length := strconv.Itoa(len(data))
	switch how {
	case "dl", "git":
		w.Header().Set("Content-Length", length)
		w.Write(data)
	case "tampered":
		other := append([]byte{}, data...)
		other[len(other)/2] ^= 1
		w.Header().Set("Content-Length", length)
		w.Write(other)
	case "cut":
		w.Header().Set("Content-Length", length)
		w.Write(data[:len(data)/2])
		panic(http.ErrAbortHandler)
	case "slow":
		w.Header().Set("Content-Length", length)
		for piece := max(len(data)/20, 1); len(data) > 0; data = data[min(piece, len(data)):] {
			w.Write(data[:min(piece, len(data))])
			http.NewResponseController(w).Flush()
			select {
			case <-time.After(100 * time.Millisecond):
			case <-r.Context().Done():
				return
			}
		}
	default:
		http.NotFound(w, r)
	}
}
