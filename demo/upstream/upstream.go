// Package upstream is a stand-in for the sites that source archives are fetched from. It serves
// files on a loopback port, with a fault on request:
//
//	/dl/            lists the files
//	/dl/FILE        serves the file
//	/git/FILE       serves it too, for repositories
//	/tampered/FILE  serves other contents of the same length
//	/cut/FILE       breaks the connection off half-way; /cut3/FILE after three tenths
//	/breaks/FILE    breaks off half-way the first time, and can resume
//	/changes/FILE   the same, but the file is another one the second time
//	/liar/FILE      the same, but resumes at another place than requested
//	/long/FILE      serves more than the file has
//	/packed/FILE    serves it compressed once more
//	/page/FILE      serves a "not found" page with status 200
//	/empty/FILE     serves nothing
//	/busy/FILE      is too busy the first time
//	/later/FILE     asks to retry in an hour
//	/stall/FILE     stalls half-way
//	/hop/FILE       redirects to the file
//	/loop/FILE      redirects endlessly
//	/locked/FILE    requires the token "open-sesame"
//	/far/FILE       serves it after 50 ms
//	/slow/FILE      serves it in small pieces, a tenth of a second apart
//
// Anything else is not found.
package upstream

import (
	"bytes"
	"compress/gzip"
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

// A Site is a running stand-in.
type Site struct {
	URL    string // http://127.0.0.1:PORT
	server *http.Server

	lock  sync.Mutex
	asked []string
	times map[string]int // how often a path was asked for
}

// Start serves files by name until Close is called.
func Start(files map[string][]byte) (*Site, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Site{URL: "http://" + listener.Addr().String(), times: map[string]int{}}
	s.server = &http.Server{ReadHeaderTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			s.lock.Lock()
			s.asked = append(s.asked, r.URL.Path)
			s.times[r.URL.Path]++
			first := s.times[r.URL.Path] == 1
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
			serve(w, r, how, data, first)
		})}
	go s.server.Serve(listener)
	return s, nil
}

// Close stops the site immediately.
func (s *Site) Close() error { return s.server.Close() }

// Asked returns the requested paths, in order.
func (s *Site) Asked() []string {
	s.lock.Lock()
	defer s.lock.Unlock()
	return append([]string{}, s.asked...)
}

// list is the page that lists the downloads.
func list(w http.ResponseWriter, files map[string][]byte) {
	w.Header().Set("Content-Type", "text/html")
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if !strings.Contains(name, "/") {
			fmt.Fprintf(w, "<a href=%q>%s</a>\n", name, name)
		}
	}
}

func serve(w http.ResponseWriter, r *http.Request, how string, data []byte, first bool) {
	whole := func(data []byte) {
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		w.Write(data)
	}
	cut := func(data []byte, tenths int) {
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		w.Write(data[:len(data)*tenths/10])
		http.NewResponseController(w).Flush()
		panic(http.ErrAbortHandler)
	}
	other := append([]byte{}, data...)
	other[len(other)/2] ^= 1
	other[0] ^= 1
	tenths, isCut := strings.CutPrefix(how, "cut")
	switch {
	case how == "dl", how == "git":
		whole(data)
	case how == "tampered":
		whole(other)
	case isCut:
		n, err := strconv.Atoi(tenths)
		if err != nil {
			n = 5
		}
		cut(data, n)
	case how == "breaks" || how == "changes" || how == "liar":
		w.Header().Set("ETag", `"first"`)
		switch {
		case first && how == "changes":
			cut(other, 5)
		case first:
			cut(data, 5)
		case how == "changes":
			w.Header().Set("ETag", `"second"`)
		case how == "liar" && r.Header.Get("Range") != "":
			w.Header().Set("Content-Range", fmt.Sprintf("bytes 1-%d/%d", len(data)-1, len(data)))
			w.WriteHeader(http.StatusPartialContent)
			w.Write(data[1:])
			return
		}
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
	case how == "forger": // it invents the rest of the file
		w.Header().Set("ETag", `"first"`)
		if r.Header.Get("Range") == "" {
			cut(data, 5)
		}
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(other))
	case how == "drips":
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		for at := 0; at+2 < len(data) && r.Context().Err() == nil; at += 2 {
			w.Write(data[at : at+2])
			http.NewResponseController(w).Flush()
			time.Sleep(20 * time.Millisecond)
		}
	case how == "long":
		whole(append(append([]byte{}, data...), "and more"...))
	case how == "packed":
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		z.Write(data)
		z.Close()
		w.Header().Set("Content-Encoding", "gzip")
		whole(packed.Bytes())
	case how == "page":
		whole([]byte("<!DOCTYPE html>\n<title>Not found</title>\n"))
	case how == "empty":
		whole(nil)
	case how == "busy" && first:
		w.Header().Set("Retry-After", "1")
		http.Error(w, "busy", http.StatusServiceUnavailable)
	case how == "busy":
		whole(data)
	case how == "later":
		w.Header().Set("Retry-After", "3600")
		http.Error(w, "later", http.StatusTooManyRequests)
	case how == "stall":
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		w.Write(data[:len(data)/2])
		http.NewResponseController(w).Flush()
		<-r.Context().Done()
	case how == "hop":
		http.Redirect(w, r, strings.Replace(r.URL.Path, "/hop/", "/dl/", 1), http.StatusFound)
	case how == "loop":
		http.Redirect(w, r, r.URL.Path, http.StatusFound)
	case how == "locked" && r.Header.Get("Authorization") != "Bearer open-sesame":
		http.Error(w, "locked", http.StatusUnauthorized)
	case how == "locked":
		whole(data)
	case how == "far":
		time.Sleep(50 * time.Millisecond)
		whole(data)
	case how == "slow":
		slowly(w, r, data)
	default:
		http.NotFound(w, r)
	}
}

func slowly(w http.ResponseWriter, r *http.Request, data []byte) {
	w.Header().Set("Content-Length", strconv.Itoa(len(data)))
	for piece := max(len(data)/20, 1); len(data) > 0; data = data[min(piece, len(data)):] {
		w.Write(data[:min(piece, len(data))])
		http.NewResponseController(w).Flush()
		select {
		case <-time.After(100 * time.Millisecond):
		case <-r.Context().Done():
			return
		}
	}
}
