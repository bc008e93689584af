package problem

// The actions.
const (
	AcceptOlder       Action = "accept_older"        // a database of advisories
	AddAdvisories     Action = "add_advisories"      // SETTINGS
	AddDepot          Action = "add_depot"           // with a key to sign with
	AllowSystemPrefix Action = "allow_system_prefix" // build for /usr nevertheless
	BeginTinkering    Action = "begin_tinkering"     // NAME
	BumpPackage       Action = "bump"                // NAME VERSION
	BuildElsewhere    Action = "build_elsewhere"     // NAME:VERSION… -o OPTION…, on a machine that builds
	BringShelf        Action = "bring_shelf"
	ChooseFolder      Action = "choose_folder"
	CleanArchives     Action = "clean_archives"     // NAME…
	CleanBuilds       Action = "clean_builds"       // delete what failed builds left
	ContinueTinkering Action = "continue_tinkering" // NAME
	DeleteTrees       Action = "delete_trees"       // also of removed builds
	DropTinkering     Action = "drop_tinkering"     // NAME; the folder stays
	EndRun            Action = "end_run"            // RUN
	FetchSources      Action = "fetch_sources"
	GiveName          Action = "give_name"     // of a source that does not state it
	GiveRelease       Action = "give_release"  // of a source that does not state it
	InstallAgain      Action = "install_again" // NAME:VERSION…
	InstallPackage    Action = "install"       // NAME
	InstallWith       Action = "install_with"  // NAME OPTION=VALUE
	KeepEdits         Action = "keep_edits"    // of the source of a failed build
	DropEdits         Action = "drop_edits"
	KeepLocked        Action = "keep_locked"   // what lock files need, or what is not old
	ListLandings      Action = "list_landings" // the numbers that exist
	MakeFolder        Action = "make_folder"   // a folder with settings and a shelf
	MendFix           Action = "mend_fix"
	MendRebuild       Action = "mend_rebuild"
	MoveAside         Action = "move_aside" // a damaged tree, then install its package again
	MoveLock          Action = "move_lock"
	NameRelease       Action = "name_release"         // NAME, for a recipe without [upstream]
	NameRepository    Action = "name_repository"      // and its suite
	NameSettings      Action = "name_settings"        // FILE
	PinTips           Action = "pin_tips"             // NAME…
	PrintDraft        Action = "print_draft"          // write no file
	RaiseRebuild      Action = "raise_rebuild"        // of a package's version
	RemoveAndRepeat   Action = "remove_and_repeat"    // NAME
	RemoveBoth        Action = "remove_both"          // NAME, and NAME that needs it
	RemoveFirst       Action = "remove_first"         // NAME
	RemovePackage     Action = "remove"               // NAME
	RemoveReinstall   Action = "remove_and_reinstall" // NAME
	ReplaceKey        Action = "replace_key"          // of a repository
	SeparateFiles     Action = "separate_files"       // of two recipes
	ShareBuilds       Action = "share_builds"         // NAME@ID…, on a machine that builds
	ShareWanted       Action = "share_wanted"         // by the settings
	SetCluster        Action = "set_cluster"
	SetEpoch          Action = "set_epoch" // NAME
	SetMaintainer     Action = "set_maintainer"
	ShowAdvisories    Action = "show_advisories" // NAME
	SupplyFile        Action = "supply"          // NAME
	UpgradePackage    Action = "upgrade"         // NAME
	UseLanding        Action = "use_landing"     // another state
	WatchBuild        Action = "watch_build"     // NAME
	WriteLock         Action = "write_lock"
)
