package recipe

// Effective is the recipe for these facts: without anything that does not apply, and without
// conditions. Its needs stay, because the ladder has decided them; so do its releases.
func (r *Recipe) Effective(f Facts) *Recipe {
	e := *r
	e.Options = r.OptionsOf(f)
	e.Extras = holding(r.Extras, f, func(x *Extra) *Condition { return &x.When })
	e.Supplies = holding(r.Supplies, f, func(x *Supply) *Condition { return &x.When })
	e.HostNeeds = holding(r.HostNeeds, f, func(x *HostNeed) *Condition { return &x.When })
	e.Tries = holding(r.Tries, f, func(x *Try) *Condition { return &x.When })
	e.Launchers = holding(r.Launchers, f, func(x *Launcher) *Condition { return &x.When })
	e.Configs = holding(r.Configs, f, func(x *Config) *Condition { return &x.When })
	e.Writable = holding(r.Writable, f, func(x *Config) *Condition { return &x.When })
	e.Owners = holding(r.Owners, f, func(x *Owner) *Condition { return &x.When })
	e.Users = holding(r.Users, f, func(x *User) *Condition { return &x.When })
	e.Folders = holding(r.Folders, f, func(x *Folder) *Condition { return &x.When })
	e.Beside = holding(r.Beside, f, func(x *Beside) *Condition { return &x.When })
	return &e
}

// holding are copies, without conditions, of the entries whose conditions hold.
func holding[T any](all []*T, f Facts, when func(*T) *Condition) []*T {
	var found []*T
	for _, x := range all {
		if when(x).Holds(f) {
			copied := *x
			*when(&copied) = Condition{}
			found = append(found, &copied)
		}
	}
	return found
}
