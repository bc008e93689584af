package source

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"

	"fernladder/core/safefs"
	"fernladder/core/tomlfile"
)

// Credentials are what hosts require before they serve a file. They are only sent to the host
// and port that they are for, and only by https; a host without a port means port 443. They are
// part of no URL, so they reach no log, receipt or error. The nil pointer has none.
type Credentials struct {
	hosts   []*credential
	mistake error // why nothing can be fetched with them
}

// FindCredentials reads a credentials file, if one is named, and a .netrc file. Mistakes in them
// only matter when something is fetched: see Err.
func FindCredentials(file, shown, netrc string) *Credentials {
	c := &Credentials{}
	if file != "" {
		found, err := ReadCredentials(file, shown)
		if err != nil {
			return &Credentials{mistake: err}
		}
		c = found
	}
	c.AddNetrc(netrc)
	return c
}

// Err is the problem of the credentials, of type tomlfile.Problems. If there is one, nothing is
// fetched.
func (c *Credentials) Err() error {
	if c == nil {
		return nil
	}
	return c.mistake
}

const largestCredentials = 1 << 20

type credential struct {
	Name, Token, User, Password string
}

// ReadCredentials reads a credentials file, which only its owner may be able to read:
//
//	[[host]]
//	name  = "downloads.vale.example"
//	token = "…"              # or user and password
//
// Errors are tomlfile.Problems.
func ReadCredentials(file, shown string) (*Credentials, error) {
	c := &Credentials{}
	problem := func(message, advice string) error {
		return tomlfile.Problems{{Position: tomlfile.Position{File: shown}, Message: message, Advice: advice}}
	}
	opened, err := safefs.OpenPrivate(file)
	var readable *safefs.Readable
	if errors.As(err, &readable) {
		return nil, problem(fmt.Sprintf("others can read these credentials (mode %04o)", readable.Mode), "chmod 600 "+shown)
	}
	if err != nil {
		return nil, problem("these credentials cannot be read: "+err.Error(), "")
	}
	defer opened.Close()
	data, err := io.ReadAll(io.LimitReader(opened, largestCredentials))
	if err != nil {
		return nil, problem("these credentials cannot be read: "+err.Error(), "")
	}
	problems := tomlfile.Read(shown, data,
		[]tomlfile.Key{tomlfile.Tables("host", &c.hosts, func(h *credential) []tomlfile.Key {
			return []tomlfile.Key{
				tomlfile.Text("name", &h.Name, "The host, with its port if that is not 443.").Must(),
				tomlfile.Text("token", &h.Token, "A token that stands for itself."),
				tomlfile.Text("user", &h.User, "A user."), tomlfile.Text("password", &h.Password, "The user's password."),
			}
		}, "A host.")})
	for i := range problems {
		problems[i].Source = "" // which may show a secret
	}
	return c, problems.Err()
}

// AddNetrc adds the entries of a .netrc file, for hosts that are not known yet. A missing or
// unreadable file adds nothing.
func (c *Credentials) AddNetrc(file string) {
	data, err := safefs.ReadFile(file, largestCredentials)
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

// authorize adds what the host of a request requires.
func (c *Credentials) authorize(r *http.Request) {
	if header := c.header(r.URL); header != "" && r.URL.User == nil {
		r.Header.Set("Authorization", header)
	}
}

// For returns the user and password, or the token, for a host and its port; port 443 without one.
func (c *Credentials) For(host string) (user, password, token string) {
	if c != nil {
		for _, h := range c.hosts {
			if origin(h.Name) == origin(host) {
				return h.User, h.Password, h.Token
			}
		}
	}
	return "", "", ""
}

// header is the value of the header Authorization for the host of a URL, or "".
func (c *Credentials) header(u *url.URL) string {
	if u.Scheme != "https" {
		return ""
	}
	switch user, password, token := c.For(u.Host); {
	case token != "":
		return "Bearer " + token
	case user != "" || password != "":
		return basic(user, password)
	}
	return ""
}

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

// origin is a host with its port.
func origin(host string) string {
	if _, _, err := net.SplitHostPort(host); err == nil {
		return strings.ToLower(host)
	}
	return strings.ToLower(strings.Trim(host, "[]")) + ":443"
}
