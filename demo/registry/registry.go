// Package registry is a stand-in for an OCI registry: one that keeps everything in memory, serves
// the open distribution protocol, and can misbehave.
//
// It promises no more than the requests of Fern Ladder need, and checks what is sent to it.
package registry

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"time"
)

// A Site serves the registry on the loopback until it is closed.
type Site struct {
	*httptest.Server
	Latency   time.Duration // before each answer
	Referrers bool          // it has the list of referrers, of version 1.1 of the protocol
	// Fault answers a request instead of the registry, if it returns true. nil: nothing goes wrong.
	Fault func(w http.ResponseWriter, r *http.Request, s *Site) bool

	lock     sync.Mutex
	blobs    map[string][]byte     // by digest
	types    map[string]string     // media types of manifests, by digest
	tags     map[string]string     // REPOSITORY:TAG to digest
	referrer map[string][]referrer // of manifests, by digest
	got      int64                 // bytes of blobs that were sent to it
	requests int
}

type referrer struct {
	MediaType    string `json:"mediaType"`
	Digest       string `json:"digest"`
	Size         int    `json:"size"`
	ArtifactType string `json:"artifactType"`
}

// Start starts an empty registry.
func Start() *Site {
	s := &Site{blobs: map[string][]byte{}, types: map[string]string{}, tags: map[string]string{},
		referrer: map[string][]referrer{}, Referrers: true}
	s.Server = httptest.NewServer(http.HandlerFunc(s.serve))
	return s
}

// Digest is the digest of data.
func Digest(data []byte) string {
	sum := sha256.Sum256(data)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Blob returns a blob or manifest by its digest, or by its tag.
func (s *Site) Blob(reference string) []byte {
	s.lock.Lock()
	defer s.lock.Unlock()
	for at, digest := range s.tags {
		if _, tag, _ := strings.Cut(at, ":"); tag == reference {
			reference = digest
		}
	}
	return s.blobs[reference]
}

// Tags are the tags of all repositories that begin with a text.
func (s *Site) Tags(prefix string) (all []string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	for at := range s.tags {
		if _, tag, _ := strings.Cut(at, ":"); strings.HasPrefix(tag, prefix) {
			all = append(all, tag)
		}
	}
	slices.Sort(all)
	return all
}

// Counts are the bytes of blobs that were sent to the registry, and the requests, since it was
// asked before.
func (s *Site) Counts() (bytes int64, requests int) {
	s.lock.Lock()
	defer s.lock.Unlock()
	bytes, requests = s.got, s.requests
	s.got, s.requests = 0, 0
	return bytes, requests
}

func (s *Site) serve(w http.ResponseWriter, r *http.Request) {
	time.Sleep(s.Latency)
	s.lock.Lock()
	s.requests++
	s.lock.Unlock()
	if s.Fault != nil && s.Fault(w, r, s) {
		return
	}
	path := strings.TrimPrefix(r.URL.Path, "/v2/")
	for _, kind := range []string{"/blobs/uploads/", "/blobs/", "/manifests/", "/referrers/", "/tags/list"} {
		repository, rest, is := strings.Cut(path, kind)
		if !is {
			continue
		}
		switch kind {
		case "/blobs/uploads/":
			s.upload(w, r, path)
		case "/blobs/":
			s.send(w, r, rest, "application/octet-stream")
		case "/manifests/":
			s.manifest(w, r, repository, rest)
		case "/referrers/":
			s.referrers(w, rest)
		case "/tags/list":
			json.NewEncoder(w).Encode(map[string]any{"name": repository, "tags": s.Tags("")})
		}
		return
	}
	http.NotFound(w, r)
}

// upload takes a blob in one piece: the place for it, then the blob.
func (s *Site) upload(w http.ResponseWriter, r *http.Request, path string) {
	if r.Method == http.MethodPost {
		w.Header().Set("Location", "/v2/"+path+"one")
		w.WriteHeader(http.StatusAccepted)
		return
	}
	data, err := io.ReadAll(r.Body)
	if digest := r.URL.Query().Get("digest"); err != nil || Digest(data) != digest {
		http.Error(w, "wrong digest", http.StatusBadRequest)
		return
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	s.blobs[Digest(data)] = data
	s.got += int64(len(data))
	w.WriteHeader(http.StatusCreated)
}

func (s *Site) manifest(w http.ResponseWriter, r *http.Request, repository, reference string) {
	at := repository + ":" + reference
	if r.Method != http.MethodPut {
		s.lock.Lock()
		if digest, is := s.tags[at]; is {
			reference = digest
		}
		mediaType := s.types[reference]
		s.lock.Unlock()
		if r.Method == http.MethodDelete {
			s.forget(reference)
			w.WriteHeader(http.StatusAccepted)
			return
		}
		s.send(w, r, reference, mediaType)
		return
	}
	data, _ := io.ReadAll(r.Body)
	s.lock.Lock()
	defer s.lock.Unlock()
	digest := Digest(data)
	s.blobs[digest], s.types[digest] = data, r.Header.Get("Content-Type")
	if reference != digest {
		s.tags[at] = digest
	}
	var m struct {
		ArtifactType string `json:"artifactType"`
		Subject      *struct {
			Digest string `json:"digest"`
		} `json:"subject"`
	}
	if json.Unmarshal(data, &m) == nil && m.Subject != nil && s.Referrers {
		of := m.Subject.Digest
		w.Header().Set("OCI-Subject", of)
		s.referrer[of] = append(slices.DeleteFunc(s.referrer[of], func(r referrer) bool { return r.Digest == digest }),
			referrer{s.types[digest], digest, len(data), m.ArtifactType})
	}
	w.WriteHeader(http.StatusCreated)
}

// Forget forgets the tags for which a function is true, and their manifests; without any tag left,
// all blobs.
func (s *Site) Forget(which func(tag string) bool) {
	for _, tag := range s.Tags("") {
		if which(tag) {
			s.forget(Digest(s.Blob(tag)))
		}
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	if len(s.tags) == 0 {
		s.blobs, s.referrer = map[string][]byte{}, map[string][]referrer{}
	}
}

func (s *Site) forget(digest string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	delete(s.blobs, digest)
	for at, is := range s.tags {
		if is == digest {
			delete(s.tags, at)
		}
	}
}

func (s *Site) send(w http.ResponseWriter, r *http.Request, digest, mediaType string) {
	s.lock.Lock()
	data, is := s.blobs[digest]
	s.lock.Unlock()
	if !is {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", mediaType)
	w.Header().Set("Docker-Content-Digest", digest)
	w.Header().Set("Content-Length", fmt.Sprint(len(data)))
	if r.Method == http.MethodGet {
		w.Write(data)
	}
}

// referrers lists the manifests whose subject is the one with a digest.
func (s *Site) referrers(w http.ResponseWriter, subject string) {
	if !s.Referrers {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	listed := append([]referrer{}, s.referrer[subject]...)
	w.Header().Set("Content-Type", "application/vnd.oci.image.index.v1+json")
	json.NewEncoder(w).Encode(map[string]any{"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json",
		"manifests": listed})
}
