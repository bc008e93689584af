package build

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"fernladder/core/recipe"
)

// declarations are the files in which a tree states the system users and directories it wants:
// one for systemd-sysusers, one for systemd-tmpfiles (sysusers.d(5), tmpfiles.d(5)). The latter
// also gives files to users that do not exist before.
func (j *Job) declarations() map[string]string {
	r := j.Recipe
	users, folders := "", ""
	for _, u := range r.Users {
		users += fmt.Sprintf("u %s - \"%s\" \"%s\" -\n", u.Name, escaped.Replace(cmp.Or(u.About, r.Summary)),
			cmp.Or(u.Home, "-"))
	}
	for _, d := range r.Folders {
		folders += fmt.Sprintf("d \"%s\" %s %s %s -\n", d.Path, cmp.Or(d.Mode, "0755"), cmp.Or(d.Owner, "root"),
			cmp.Or(d.Group, "root"))
	}
	if users+folders != "" {
		for _, o := range r.Owners {
			folders += fmt.Sprintf("z \"%s\" %s %s %s -\n", escaped.Replace(path.Join(j.Prefix, o.File)), cmp.Or(o.Mode, "-"),
				cmp.Or(o.Owner, "-"), cmp.Or(o.Group, "-"))
		}
	}
	files := map[string]string{}
	for dir, text := range map[string]string{"lib/sysusers.d": users, "lib/tmpfiles.d": folders} {
		if text != "" {
			files[path.Join(dir, j.Name+".conf")] = text
		}
	}
	return files
}

// escaped quotes a text for systemd.
var escaped = strings.NewReplacer("%", "%%", `\`, `\\`, `"`, `\"`)

// declares reports whether the package declares a user or group.
func (a *attempt) declares(name string) bool {
	return slices.ContainsFunc(a.job.Recipe.Users, func(u *recipe.User) bool { return u.Name == name })
}
