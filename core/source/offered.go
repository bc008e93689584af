package source

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"fernladder/core/recipe"
)

// An Offer is what the upstream site says about a URL of a recipe.
type Offer struct {
	URL   string
	HTTPS string // the same file by https, where the recipe says http
	Sig   string // a signature beside it, where the recipe names none
	Gone  string // why it cannot be had
}

// Ask asks the site of an archive whether it exists, whether https serves it too, and, if
// requested, whether there is a signature beside it. It downloads nothing.
func (a *Archives) Ask(ctx context.Context, archive string, signed bool) (Offer, error) {
	o := Offer{URL: Redacted(archive)}
	if !strings.HasPrefix(archive, "http") {
		return o, nil
	}
	if err := a.head(ctx, archive); err != nil {
		if ctx.Err() != nil {
			return o, ctx.Err()
		}
		o.Gone = err.Error()
		return o, nil
	}
	if u, err := url.Parse(archive); err == nil && u.Scheme == "http" {
		u.Scheme = "https"
		if a.head(ctx, u.String()) == nil {
			o.HTTPS = Redacted(u.String())
		}
	}
	if !signed {
		o.Sig = a.SignatureOf(ctx, archive)
	}
	return o, ctx.Err()
}

// SignatureOf returns the URL of a signature beside an archive, or "".
func (a *Archives) SignatureOf(ctx context.Context, archive string) string {
	for _, place := range recipe.SignaturePlaces(archive) {
		if a.head(ctx, place) == nil {
			return place
		}
	}
	return ""
}

// head asks whether a URL serves something that is not a web page in place of a file.
func (a *Archives) head(ctx context.Context, source string) error {
	if path, local := strings.CutPrefix(source, "file://"); local {
		answer, err := openFile(path)
		if err != nil {
			return plain(ctx, err)
		}
		return answer.body.Close()
	}
	if a.Offline {
		return errOffline
	}
	if err := a.Credentials.Err(); err != nil {
		return err
	}
	response, err := a.request(ctx, http.MethodHead, source, http.Header{})
	if err != nil {
		return plain(ctx, err)
	}
	return response.Body.Close()
}
