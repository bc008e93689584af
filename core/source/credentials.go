package source

import (
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"

	"fernladder/core/keyfile"
)

// Credentials are what hosts want to know before they serve a file. They are
// only ever sent to the host that they are for, and only by https, except to
// this machine itself. They are in no URL, so they reach no log, receipt or
// error. The nil pointer has none.
type Credentials struct{ hosts []*credential }

type credential struct {
	Name, Token, User, Password string
}

// ReadCredentials reads a credentials file, which nobody but its owner may be
// able to read:
//
//	[[host]]
//	name  = "downloads.vale.example"
//	token = "…"              # or user and password
//
// Errors are keyfile.Problems.
func ReadCredentials(file, shown string) (*Credentials, error) {
	c := &Credentials{}
	problem := func(message, advice string) error {
		return keyfile.Problems{{Position: keyfile.Position{File: shown}, Message: message, Advice: advice}}
	}
	info, err := os.Stat(file)
	if err != nil {
		return nil, problem("these credentials cannot be read: "+err.Error(), "")
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, problem(fmt.Sprintf("others can read these credentials (mode %04o)", info.Mode().Perm()), "chmod 600 "+shown)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, problem("these credentials cannot be read: "+err.Error(), "")
	}
	problems := keyfile.Read(shown, data, []keyfile.Key{keyfile.Tables("host", &c.hosts, func(h *credential) []keyfile.Key {
		return []keyfile.Key{
			keyfile.Text("name", &h.Name, "The host.").Must(), keyfile.Text("token", &h.Token, "A token that stands for itself."),
			keyfile.Text("user", &h.User, "A user."), keyfile.Text("password", &h.Password, "The user's password."),
		}
	}, "A host.")})
	for i := range problems {
		problems[i].Source = "" // which may show a secret
	}
	return c, problems.Err()
}

// AddNetrc adds what a .netrc file says, for hosts that are not known yet. What
// is not there, or not readable, adds nothing.
func (c *Credentials) AddNetrc(file string) {
	data, err := os.ReadFile(file)
	if err != nil {
		return
	}
	var current *credential
	words := strings.Fields(string(data))
	for i := 0; i < len(words); i++ {
		value := func() string {
			i++
			if i < len(words) {
				return words[i]
			}
			return ""
		}
		switch words[i] {
		case "machine":
			current = &credential{Name: value()}
			c.hosts = append(c.hosts, current)
		case "default", "macdef":
			current = nil
		case "login":
			if user := value(); current != nil {
				current.User = user
			}
		case "password":
			if password := value(); current != nil {
				current.Password = password
			}
		}
	}
}

// authorize adds what the host of a request wants to know.
func (c *Credentials) authorize(r *http.Request) {
	if c == nil || r.URL.User != nil || r.URL.Scheme != "https" && !loopback(r.URL.Hostname()) {
		return
	}
	for _, h := range c.hosts {
		if h.Name != r.URL.Hostname() && h.Name != r.URL.Host {
			continue
		}
		switch {
		case h.Token != "":
			r.Header.Set("Authorization", "Bearer "+h.Token)
		case h.User != "" || h.Password != "":
			r.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(h.User+":"+h.Password)))
		}
		return
	}
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
