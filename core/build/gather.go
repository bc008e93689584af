package build

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
)

// gather runs the gather steps of extras that are not stored yet, in the unpacked source and in a
// room with the machine's network, and stores each result as an archive. Later builds unpack that
// archive. No other stage of a build has the network.
func (a *attempt) gather(ctx context.Context) error {
	for _, part := range a.job.Parts {
		if part.Gather != "" && !part.here(ctx, a.m) {
			if err := a.gatherPart(ctx, part); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *attempt) gatherPart(ctx context.Context, part Part) error {
	log := a.log(StageGather)
	switch {
	case !slices.Contains(a.m.Settings.TrustedNetwork, a.job.Name):
		return a.failure(StageGather,
			fmt.Sprintf("gathering the extra %s needs the network. If you trust this package, add to the settings: "+
				"trusted_network = [%q]", part.Name, a.job.Name), "")
	case a.b.level != sandbox.Sealed:
		return a.failure(StageGather,
			fmt.Sprintf("gathering the extra %s needs a sealed room, which this machine cannot make", part.Name), "")
	}
	if err := a.leave(); err != nil {
		return err
	}
	spec, err := a.spec()
	if err != nil {
		return err
	}
	spec.Network = true
	if file, err := filepath.EvalSymlinks("/etc/resolv.conf"); err == nil && filepath.Dir(file) != "/etc" {
		spec.Visible = append(spec.Visible, file)
	}
	if a.room.session, err = a.enterBare(ctx, spec); err != nil {
		return err
	}
	output, err := os.Create(log)
	if err != nil {
		return errors.Join(err, a.leave())
	}
	defer output.Close()
	a.env = environment(a.b.target, a.job, a.dirs, a.journal.Newest)
	for _, name := range []string{"http_proxy", "https_proxy", "no_proxy", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY"} {
		if value := a.m.Place.Getenv(name); value != "" {
			a.env = append(a.env, name+"="+value)
		}
	}
	c := Command{Dir: a.dirs.source, Argv: []string{"sh", "-e", "-c", part.Gather}, Jobs: One}
	err = a.command(ctx, c, output)
	a.env = nil
	if left := a.leave(); left != nil && err == nil {
		err = left
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return a.failure(StageGather, what(c)+" "+status(err), log)
	}
	return a.keepGathered(ctx, part)
}

// keepGathered archives the gathered files, and stores the archive if the recipe has its digest.
func (a *attempt) keepGathered(ctx context.Context, part Part) error {
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return err
	}
	defer box.Close()
	made, err := box.Sub(path.Join(a.dirs.below(a.dirs.source), part.Into))
	if err != nil {
		return a.failure(StageGather, fmt.Sprintf("the gather step of the extra %s has not made the directory %s", part.Name,
			part.Into), "")
	}
	defer made.Close()
	file := filepath.Join(a.dirs.work, "gathered.tar")
	out, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(file)
	defer out.Close()
	sum := sha256.New()
	if err := archive(io.MultiWriter(out, sum), made, int64(a.m.Settings.LargestTree)<<20); err != nil {
		return a.failure(StageGather, fmt.Sprintf("the files gathered for the extra %s cannot be archived: %v",
			part.Name, err), "")
	}
	got := recipe.Digest{Algorithm: "sha256", Hex: hex.EncodeToString(sum.Sum(nil))}
	switch part.Archive.Digest {
	case got:
		w := part.Archive
		w.URLs = []string{"file://" + file}
		_, err := a.m.Archives.Fetch(ctx, w)
		return err
	case recipe.Digest{}:
		return a.failure(StageGather,
			fmt.Sprintf("the recipe has no digest for the extra %s. Check the gathered files in %s, then add sha256 = %q (%s)",
				part.Name, filepath.Join(a.dirs.source, part.Into), got.Hex, part.Archive.At), "")
	}
	return a.failure(StageGather,
		fmt.Sprintf("the files gathered for the extra %s do not match the recipe: their sha256 is %s (%s). They are in %s",
			part.Name, got.Hex, part.Archive.At, filepath.Join(a.dirs.source, part.Into)), "")
}

// archive writes a directory as a tar whose bytes depend on the files alone: sorted by name, without
// times and owners. It keeps symbolic links and execute permissions.
func archive(to io.Writer, dir *safefs.Dir, largest int64) error {
	const most = 1_000_000
	w := tar.NewWriter(to)
	entries, bytes := 0, int64(0)
	err := dir.Walk(false, func(e safefs.Entry) error {
		h := &tar.Header{Name: "gathered/" + e.Name,
			Mode: int64(0o644 | e.Mode.Perm()&0o100 | e.Mode.Perm()&0o100>>3 | e.Mode.Perm()&0o100>>6), ModTime: time.Unix(0, 0),
			Format: tar.FormatPAX}
		if entries++; entries > most {
			return fmt.Errorf("there are more than %d files", most)
		}
		switch {
		case e.Mode.IsDir():
			h.Typeflag, h.Name, h.Mode = tar.TypeDir, h.Name+"/", 0o755
			return w.WriteHeader(h)
		case e.Mode&fs.ModeSymlink != 0:
			target, err := e.Target()
			if err != nil {
				return err
			}
			h.Typeflag, h.Linkname, h.Mode = tar.TypeSymlink, target, 0o777
			return w.WriteHeader(h)
		case !e.Mode.IsRegular():
			return fmt.Errorf("%s is neither a file nor a directory nor a link", e.Name)
		}
		if bytes += e.Size; largest > 0 && bytes > largest {
			return fmt.Errorf("it has more than %d MiB, the most that is allowed", largest>>20)
		}
		f, err := e.Open()
		if err != nil {
			return err
		}
		defer f.Close()
		h.Typeflag, h.Size = tar.TypeReg, e.Size
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		_, err = io.CopyN(w, f, e.Size)
		return err
	})
	return errors.Join(err, w.Close())
}
