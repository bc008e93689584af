package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/safefs"
)

// Configuration files that administrators edit are in config/NAME, one file for all builds of a
// package; each tree has a link to it, and the sample with its initial contents.
// config/NAME/.samples.json records which sample a file was last made from or compared with, so
// that an upgrade recognises an edited file.
const samplesFile = ".samples.json"

// configurable reports whether a path below a tree can be that of a configuration file.
func configurable(file string) bool {
	return filepath.IsLocal(file) && filepath.Clean(file) == file && file != "." && file != samplesFile &&
		file != ownDirectory && !strings.HasPrefix(file, ownDirectory+"/")
}

// UsedLink is the path, below the landing, of the link to a package's tree: that of the build
// with the plain names.
func UsedLink(name string) string { return ownDirectory + "/" + name }

// LargestEntry limits the size of a desktop entry, in bytes.
const LargestEntry = 64 << 10

// InUse is the path to a package's tree through the landing.
func (s *Store) InUse(name string) string { return filepath.Join(s.Root, "landing", UsedLink(name)) }

// ConfigFile is the path of a configuration file of a package.
func (s *Store) ConfigFile(name, file string) string {
	return filepath.Join(s.Root, "config", name, filepath.FromSlash(file))
}

// ConfigChange says what happened to a configuration file.
type ConfigChange struct {
	File   string `json:"file"`           // absolute
	Sample string `json:"sample"`         // absolute, in the tree
	What   string `json:"what"`           // made, renewed, kept or strange
	Laid   string `json:"laid,omitempty"` // absolute; of one that was kept, the new sample beside it

	tree string
	as   Config
}

// The changes of configuration files: there was none; it was the last sample and is now the new
// one; it was edited, and the new sample differs from the last; it is no longer a file.
const (
	ConfigMade    = "made"
	ConfigRenewed = "renewed"
	ConfigKept    = "kept"
	ConfigStrange = "strange"
)

// A ConfigStatus is the state of a configuration file.
type ConfigStatus struct {
	File    string `json:"file"` // absolute
	Edited  bool   `json:"edited"`
	There   bool   `json:"there"`
	Strange bool   `json:"strange,omitempty"` // something is there, and no file

	Directory bool `json:"directory,omitempty"` // a directory that programs write in
}

// Configs returns the states of a build's configuration files, in the order of its receipt.
func (s *Store) Configs(r *Receipt) (all []ConfigStatus, err error) {
	if r.Prefix != "" {
		return nil, nil
	}
	for _, c := range r.Writable {
		status := ConfigStatus{File: s.StateDir(r.Name, c.File), Directory: true}
		info, err := os.Lstat(status.File)
		status.There = err == nil
		status.Strange = err == nil && !info.IsDir()
		all = append(all, status)
	}
	if len(r.Configs) == 0 {
		return all, nil
	}
	samples, _, err := s.samples(r.Name)
	if err != nil {
		return nil, err
	}
	for _, c := range r.Configs {
		status := ConfigStatus{File: s.ConfigFile(r.Name, c.File)}
		data, err := safefs.ReadFile(status.File, largestConfig)
		status.There, status.Strange = err == nil, err != nil && !errors.Is(err, fs.ErrNotExist)
		status.Edited = err == nil && Digest(data) != samples[c.File]
		if status.Edited { // a program can have been killed before it wrote down that it was renewed
			sample, _, err := s.sample(s.change(r, c))
			status.Edited = err != nil || Digest(data) != Digest(sample)
		}
		all = append(all, status)
	}
	return all, nil
}

// samples reads which sample each file of a package was last made from or compared with. The
// digest of a sample that was put beside a file has the file's name and laidSuffix.
func (s *Store) samples(name string) (samples map[string]string, index string, err error) {
	index, samples = s.ConfigFile(name, samplesFile), map[string]string{}
	data, err := safefs.ReadFile(index, largestConfig)
	if err == nil {
		err = json.Unmarshal(data, &samples)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, index, &Error{Path: index, Err: fmt.Errorf("this list of samples is damaged: %w", err),
			Advice: "Delete it; edited files stay as they are."}
	}
	return samples, index, nil
}

// laidSuffix follows the name of a file in the list of samples, for a sample that was put beside
// it: the value is a name, a blank and the digest. No file has such a name.
const laidSuffix = "//laid"

// BeginConfigs makes the configuration files of a build that do not exist yet.
func (s *Store) BeginConfigs(r *Receipt) error {
	_, err := s.configs(r, false)
	return err
}

// UpdateConfigs updates the configuration files of a build when it is put on the landing. Edited
// files stay as they are. The caller holds the landing's lock.
func (s *Store) UpdateConfigs(r *Receipt) ([]ConfigChange, error) { return s.configs(r, true) }

func (s *Store) configs(r *Receipt, renew bool) ([]ConfigChange, error) {
	if r.Prefix != "" { // which has them in its own directory
		return nil, nil
	}
	if err := s.states(r); err != nil || len(r.Configs) == 0 {
		return nil, err
	}
	samples, index, err := s.samples(r.Name)
	if err != nil {
		return nil, err
	}
	before := maps.Clone(samples)
	var changes []ConfigChange
	for _, c := range r.Configs {
		change := s.change(r, c)
		if err = s.config(&change, r.Version, samples, c.File, renew); err != nil {
			return changes, s.Wrap(err)
		}
		if change.What != "" {
			changes = append(changes, change)
		}
	}
	if maps.Equal(before, samples) {
		return changes, nil
	}
	data, err := json.MarshalIndent(samples, "", "  ")
	if err != nil {
		return changes, err
	}
	return changes, s.Wrap(durable.WriteFile(index, append(data, '\n'), 0o644))
}

// change is what will be done to a file.
func (s *Store) change(r *Receipt, c Config) ConfigChange {
	return ConfigChange{File: s.ConfigFile(r.Name, c.File), Sample: filepath.Join(s.Tree(r.Ref), c.Sample),
		tree: s.Tree(r.Ref), as: c}
}

// config updates one file, and records in the change what it did.
func (s *Store) config(change *ConfigChange, version string, samples map[string]string, name string, renew bool) error {
	sample, mode, err := s.sample(*change)
	if err != nil {
		return err
	}
	last := samples[name]
	current, err := safefs.ReadFile(change.File, largestConfig)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := os.MkdirAll(filepath.Dir(change.File), 0o777); err != nil {
			return err
		}
		change.What, samples[name] = ConfigMade, Digest(sample)
		return change.make(sample, mode)
	case errors.Is(err, safefs.ErrNotRegular), errors.Is(err, syscall.ELOOP), errors.Is(err, syscall.ENOTDIR):
		change.What = ConfigStrange
		return nil
	case err != nil:
		return err
	case !renew || Digest(sample) == last:
		return nil
	case Digest(current) == Digest(sample):
		samples[name] = Digest(sample)
		return change.takeUp(samples, name)
	case Digest(current) == last && !isLink(change.File): // a link there is an edit
		change.What, samples[name] = ConfigRenewed, Digest(sample)
		if err := durable.Renew(change.File, sample); err != nil {
			return err
		}
		return change.takeUp(samples, name)
	}
	change.What, samples[name] = ConfigKept, Digest(sample)
	return change.lay(sample, version, samples, name)
}

func isLink(path string) bool {
	info, err := os.Lstat(path)
	return err == nil && info.Mode()&fs.ModeSymlink != 0
}

// lay puts a new sample beside an edited file, with the permissions of that file, because people
// copy from one to the other.
func (c *ConfigChange) lay(sample []byte, version string, samples map[string]string, name string) error {
	if err := c.takeUp(samples, name); err != nil {
		return err
	}
	info, err := os.Lstat(c.File)
	if err != nil {
		return err
	}
	mode := info.Mode().Perm()
	if info.Mode()&fs.ModeSymlink != 0 {
		mode = 0o600 // those of a link say nothing
	}
	laid := c.File + ".sample-" + version
	if _, err := os.Lstat(laid); err == nil {
		return nil // a file of the administrator's own
	}
	owner := info.Sys().(*syscall.Stat_t)
	uid, gid := -1, -1
	if os.Geteuid() == 0 {
		uid, gid = int(owner.Uid), int(owner.Gid)
	}
	c.Laid = laid
	samples[name+laidSuffix] = filepath.Base(laid) + " " + Digest(sample)
	return durable.WriteFileFor(laid, sample, mode, uid, gid)
}

// takeUp deletes the sample that was put beside a file earlier, if it is unchanged.
func (c *ConfigChange) takeUp(samples map[string]string, name string) error {
	base, digest, _ := strings.Cut(samples[name+laidSuffix], " ")
	if strings.Contains(base, "/") || !strings.HasPrefix(base, filepath.Base(c.File)+".sample-") {
		return nil
	}
	delete(samples, name+laidSuffix)
	laid := filepath.Join(filepath.Dir(c.File), base)
	if data, err := safefs.ReadFile(laid, largestConfig); err != nil || Digest(data) != digest {
		return nil
	}
	return durable.Remove(laid)
}

// make makes a configuration file, with the stated owner and mode.
func (c ConfigChange) make(sample []byte, mode fs.FileMode) error {
	mode, err := c.as.Permissions(mode)
	if err != nil {
		return err
	}
	uid, gid, err := c.whose()
	if err != nil {
		return err
	}
	return durable.WriteFileFor(c.File, sample, mode, uid, gid)
}

// whose returns the user and group ids for a file; -1 leaves one unchanged.
func (c ConfigChange) whose() (uid, gid int, err error) {
	if os.Geteuid() != 0 { // only root can change owners
		return -1, -1, nil
	}
	if uid, err = c.account(c.as.Owner, "user", UserNumber); err == nil {
		gid, err = c.account(c.as.Group, "group", GroupNumber)
	}
	return uid, gid, err
}

// account is the number of a user or group, or -1 for none.
func (c ConfigChange) account(name, kind string, numberOf func(name string) (string, error)) (int, error) {
	number, err := NumberOf(name, numberOf)
	if err != nil {
		return -1, &Error{Path: c.File, Err: fmt.Errorf("it should belong to the %s %s, which this machine does not have",
			kind, name),
			Advice: "Make that " + kind + ", and run the same command again."}
	}
	return number, nil
}

// NumberOf is the number of an account, which UserNumber or GroupNumber looks up; -1 for none.
func NumberOf(name string, lookUp func(name string) (string, error)) (int, error) {
	if name == "" {
		return -1, nil
	}
	number, err := lookUp(name)
	if err != nil {
		return -1, err
	}
	return strconv.Atoi(number)
}

// UserNumber is the number of a user of the machine, in digits.
func UserNumber(name string) (string, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return "", err
	}
	return u.Uid, nil
}

// GroupNumber is the number of a group of the machine, in digits.
func GroupNumber(name string) (string, error) {
	g, err := user.LookupGroup(name)
	if err != nil {
		return "", err
	}
	return g.Gid, nil
}

// largestConfig is more than any edited configuration file has.
const largestConfig = 64 << 20

// sample reads the initial contents and mode of a configuration file. Trees have links that may
// lead anywhere; this follows none.
func (s *Store) sample(change ConfigChange) ([]byte, fs.FileMode, error) {
	dir, name := change.tree, strings.TrimPrefix(change.Sample, change.tree+"/")
	tree, err := safefs.OpenDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		err = &Error{Path: dir, Err: ErrGone, Advice: "Run the same command again."}
	}
	if err != nil {
		return nil, 0, err
	}
	defer tree.Close()
	data, err := tree.ReadFile(name, largestConfig)
	if err != nil {
		return nil, 0, err
	}
	info, err := tree.Lstat(name)
	return data, info.Mode.Perm() | 0o200, err
}

// Digest is the SHA-256 of data, in hexadecimal.
func Digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
