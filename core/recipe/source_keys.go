package recipe

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

func (r *Recipe) archiveKey(into *[]string, about string) tomlfile.Key {
	return tomlfile.OneOrMore("archive", into, about).
		Check(CheckURL).Check(knownVariables(variablePattern, r.sourceVariables))
}

func (r *Recipe) signatureKey(into *[]string, about string) tomlfile.Key {
	return tomlfile.OneOrMore("signature", into, about).
		Check(CheckURL).Check(knownVariables(variablePattern, r.sourceVariables))
}

func digestKeys(into *Digest, what string) []tomlfile.Key {
	return []tomlfile.Key{
		tomlfile.Parsed("sha256", "64 hexadecimal digits", into, digest("sha256", 64), "The SHA-256 of the "+what+
			". This or sha512 is required."),
		tomlfile.Parsed("sha512", "128 hexadecimal digits", into, digest("sha512", 128), "The SHA-512 of the "+what+"."),
	}
}

func sizeKey(into *int) tomlfile.Key {
	return tomlfile.Number("size", into, 1, 1<<50,
		"The size of the archive in bytes, for plans to show how much is to be fetched. It verifies nothing.")
}

func (r *Recipe) releaseKeys(x *Release) []tomlfile.Key {
	x.Track = Stable
	keys := []tomlfile.Key{
		tomlfile.Parsed("version", "version", &x.Version, func(text string) (version.Version, error) {
			x.stated = true
			return version.Parse(text)
		},
			"The version, in quotes. A release on the track tip has none: its version is that of the latest tag and the "+
				"number of commits since."),
		tomlfile.Parsed("track", "stable, preview or tip", &x.Track, WordAmong("track", Stable, Preview, Tip),
			"How settled it is: stable (the default), preview or tip. Previews are candidates only when requested by exact "+
				"version, the head of a branch as NAME:tip."),
		r.archiveKey(&x.Archive, "The URLs of this release's archive, where they are not those of [source]."),
		r.signatureKey(&x.Signature, "The URLs of its signature, where they are not those of [source]."),
	}
	keys = append(append(keys, digestKeys(&x.Digest, "archive")...), sizeKey(&x.Size),
		tomlfile.Choices("defaults", &x.Defaults,
			"Defaults of options in this release, where they differ from those of others."))
	repository := func(key string, into *string, about string) tomlfile.Key {
		return tomlfile.Text(key, into, about).Check(CheckRepository).
			Check(knownVariables(variablePattern, r.sourceVariables))
	}
	return append(keys,
		tomlfile.Texts("patches", &x.Patches, "Patches beside the recipe, applied in order with patch -p1.").
			Check(r.checkBeside),
		repository("git", &x.Git,
			"The URL of a git repository with the source, instead of an archive. Submodules are included."),
		tomlfile.Parsed("branch", "text", &x.Branch, refName,
			"The branch whose head is built, for the track tip. The lock file pins its commit."),
		tomlfile.Parsed("tag", "text", &x.Tag, refName,
			"The tag by which the commit is fetched. It must name the commit; where the recipe has keys, it must be signed "+
				"by one of them."),
		tomlfile.Parsed("commit", "40 or 64 hexadecimal digits", &x.Commit, CommitID,
			"The commit to build, for tracks other than tip. It takes the place of a digest."),
		repository("svn", &x.Svn,
			"The URL of a directory of a Subversion repository with the source, instead of an archive."),
		tomlfile.Parsed("revision", "number in quotes", &x.Revision, revisionNumber,
			"The revision to build, for tracks other than tip."),
	)
}

func (r *Recipe) extraKeys(e *Extra) []tomlfile.Key {
	keys := []tomlfile.Key{
		tomlfile.Text("name", &e.Name, "What it is called in messages.").Must().Check(CheckName),
		r.archiveKey(&e.Archive, "The URLs of the archive, tried in order."),
		tomlfile.Text("gather", &e.Gather,
			"Instead of archive: shell text that fills the directory into, with the network. It runs in the unpacked source, "+
				"in a sealed room, and only if trusted_network in the settings names the package. The digest is that of a tar "+
				"of the directory; the first build prints it. Later builds unpack that tar and need no network.").
			Check(knownVariables(shellVariablePattern, r.buildVariables)),
		r.signatureKey(&e.Signature, "The URLs of its signature, by one of the keys of [source]."),
	}
	return append(append(keys, digestKeys(&e.Digest, "archive")...), sizeKey(&e.Size),
		tomlfile.Text("into", &e.Into, "The directory of the source into which it is unpacked. It may exist.").Must().
			Check(checkInside),
		tomlfile.Text("purl", &e.Purl, "Its package URL with a version, as pkg:generic/curves@7, by which security "+
			"advisories for it are found.").Check(checkPurlVersion),
		r.whenKey(&e.When, "The condition under which it is used."))
}

func (r *Recipe) supplyKeys(s *Supply) []tomlfile.Key {
	keys := []tomlfile.Key{
		tomlfile.Text("file", &s.File, "The name under which the build finds it.").Must().Check(checkPlainName),
		tomlfile.Text("about", &s.About, "What it is and where it comes from, for the person who has to supply it.").Must(),
	}
	return append(append(keys, digestKeys(&s.Digest, "file")...),
		r.whenKey(&s.When, "The condition under which it is needed."))
}

func digest(algorithm string, length int) func(string) (Digest, error) {
	return func(text string) (Digest, error) {
		if len(text) != length || strings.Trim(text, "0123456789abcdefABCDEF") != "" {
			return Digest{Algorithm: algorithm}, fmt.Errorf("a %s has %d hexadecimal digits; this is %s", algorithm, length,
				strconv.Quote(text))
		}
		return Digest{algorithm, strings.ToLower(text)}, nil
	}
}

func refName(text string) (string, error) {
	if !refPattern.MatchString(text) || strings.Contains(text, "..") || strings.HasSuffix(text, ".lock") ||
		strings.HasSuffix(text, "/") {
		return "", fmt.Errorf("%q cannot be the name of a branch or tag", text)
	}
	return text, nil
}

// CommitID reads the whole id of a commit.
func CommitID(text string) (string, error) {
	if (len(text) != 40 && len(text) != 64) || strings.Trim(text, "0123456789abcdefABCDEF") != "" {
		return "", &tomlfile.At{Advice: "git rev-parse prints all of it",
			Err: fmt.Errorf("a commit has 40 or 64 hexadecimal digits; this is %s", strconv.Quote(text))}
	}
	return strings.ToLower(text), nil
}

func revisionNumber(text string) (string, error) {
	if n, err := strconv.ParseUint(text, 10, 32); err != nil || n == 0 {
		return "", fmt.Errorf("a revision is a number above 0, not %s", strconv.Quote(text))
	}
	return text, nil
}

// CheckURL returns an error if files cannot be fetched from url.
func CheckURL(url string) error {
	if !schemePattern.MatchString(url) {
		return fmt.Errorf("%q is not a URL that can be fetched: it begins with https://, http:// or file://", url)
	}
	return noSecrets(url)
}

// noSecrets refuses URLs that identify a user, because recipes are redistributed.
func noSecrets(text string) error {
	scheme, rest, _ := strings.Cut(text, "://")
	host, _, _ := strings.Cut(rest, "/")
	user, _, named := strings.Cut(host, "@")
	if !named || strings.HasSuffix(scheme, "ssh") && !strings.Contains(user, ":") {
		return nil // by ssh, the name before the host is the site's own
	}
	return &tomlfile.At{Offset: len(scheme) + len("://"),
		Advice: "put it into the file that credentials in the settings names",
		Err:    errors.New("a URL must not contain a user or password")}
}

// CheckRepository returns an error if url cannot be that of a repository.
func CheckRepository(url string) error {
	if !repositoryPattern.MatchString(url) {
		return fmt.Errorf("%q cannot be the URL of a repository, which begins with https, http, ssh, git, svn, svn+ssh or "+
			"file", url)
	}
	return noSecrets(url)
}

// checkInside returns an error if a path leaves its directory.
func checkInside(name string) error {
	if !filepath.IsLocal(name) || path.Clean(name) != name {
		return fmt.Errorf("%q has to be a path inside, and without . or .. in it", name)
	}
	return nil
}

func checkPlainName(name string) error {
	const longest = 255 // bytes of a file name
	if !plainNamePattern.MatchString(name) || len(name) > longest {
		return fmt.Errorf("%q cannot be the name of a supply: names have letters, digits, blanks and . _ + -, and no "+
			"directories", name)
	}
	return nil
}
