package source

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"time"

	"golang.org/x/net/http/httpproxy"

	"fernladder/core/event"
)

// Network says how sources are fetched: what archives and repositories have in common.
// NewNetwork makes it, and it does not change during transfers.
type Network struct {
	Agent  string // how the program names itself to servers
	Events event.Sink
	Now    func() time.Time
	Getenv func(name string) string // proxies, and ssh's variables

	Hosts       *Hosts        // shared by all that fetch in a run; nil: no limits
	Credentials *Credentials  // nil: none
	Offline     bool          // missing files are not fetched
	Patience    time.Duration // how long a transfer may stall, or drip; 0: a minute

	client Doer
}

// A Doer sends requests, as an *http.Client does.
type Doer interface {
	Do(*http.Request) (*http.Response, error)
}

// NewNetwork returns a network that uses the proxies of an environment, and reports nothing.
func NewNetwork(getenv func(name string) string) *Network {
	n := &Network{Events: event.Nowhere, Now: time.Now, Getenv: getenv}
	proxies := httpproxy.Config{NoProxy: either(getenv, "NO_PROXY", "no_proxy"),
		HTTPProxy: either(getenv, "HTTP_PROXY", "http_proxy"), HTTPSProxy: either(getenv, "HTTPS_PROXY", "https_proxy")}
	through := proxies.ProxyFunc()
	n.client = &http.Client{
		Transport: &http.Transport{
			Proxy:                 func(r *http.Request) (*url.URL, error) { return through(r.URL) },
			DialContext:           (&net.Dialer{Timeout: 30 * time.Second}).DialContext,
			TLSHandshakeTimeout:   30 * time.Second,
			ResponseHeaderTimeout: time.Minute,
			DisableCompression:    true, // archives are wanted as they are
			ForceAttemptHTTP2:     true,
			MaxIdleConnsPerHost:   32,
		},
		CheckRedirect: n.redirected,
	}
	return n
}

// Client is the client of the network: for those who add what a server wants to know themselves.
func (n *Network) Client() *http.Client {
	client, _ := n.client.(*http.Client)
	return client
}

// Quiet is the network without its events. Requests go through another client, if one is given,
// which then has the credentials.
func (n *Network) Quiet(through Doer) *Network {
	quiet := *n
	quiet.Events = event.Nowhere
	if through != nil {
		quiet.client, quiet.Credentials = through, nil
	}
	return &quiet
}

func either(getenv func(string) string, names ...string) string {
	for _, name := range names {
		if value := getenv(name); value != "" {
			return value
		}
	}
	return ""
}

// redirected refuses targets that a server must not redirect to. The credentials of the first
// host are not sent to the next one, nor is the referring URL, which may contain a secret.
func (n *Network) redirected(next *http.Request, before []*http.Request) error {
	if len(before) >= mostRedirects {
		return fmt.Errorf("redirected more than %d times", mostRedirects)
	}
	if next.URL.Scheme != "https" &&
		slices.ContainsFunc(before, func(r *http.Request) bool { return r.URL.Scheme == "https" }) {
		return errors.New("redirected from https to plain http, which is refused")
	}
	next.Header.Del("Authorization")
	next.Header.Del("Referer")
	n.Credentials.authorize(next)
	return nil
}

// ofMachine is the part of the machine's environment that fetching programs get.
func (n *Network) ofMachine() []string {
	// For ssh, which has its own rules.
	env := []string{"HOME=" + n.Getenv("HOME"), "SSH_AUTH_SOCK=" + n.Getenv("SSH_AUTH_SOCK")}
	for _, name := range []string{"http_proxy", "https_proxy", "no_proxy", "HTTPS_PROXY", "NO_PROXY", "ALL_PROXY"} {
		if value := n.Getenv(name); value != "" {
			env = append(env, name+"="+value)
		}
	}
	// git has variables of its own for certificate authorities.
	for name, of := range map[string]string{"GIT_SSL_CAINFO": "SSL_CERT_FILE", "GIT_SSL_CAPATH": "SSL_CERT_DIR"} {
		if value := cmp.Or(n.Getenv(name), n.Getenv(of)); value != "" {
			env = append(env, name+"="+value)
		}
	}
	return env
}
