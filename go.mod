module fernladder

go 1.26.7

require (
	aead.dev/minisign v0.3.0
	charm.land/bubbles/v2 v2.2.1
	charm.land/bubbletea/v2 v2.1.1
	charm.land/lipgloss/v2 v2.1.0
	github.com/ProtonMail/go-crypto v1.5.2
	github.com/charmbracelet/x/ansi v0.11.9
	github.com/chromedp/cdproto v0.160.1
	github.com/chromedp/chromedp v0.23.1
	github.com/creack/pty v1.1.24
	github.com/gofrs/flock v0.13.1
	github.com/google/licensecheck v0.3.1
	github.com/hiddeco/sshsig v0.2.0
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/klauspost/compress v1.20.3
	github.com/klauspost/pgzip v1.3.0
	github.com/landlock-lsm/go-landlock v0.11.0
	github.com/opencontainers/go-digest v1.0.0
	github.com/opencontainers/image-spec v1.1.1
	github.com/package-url/packageurl-go v0.1.7
	github.com/pandatix/go-cvss v0.6.4
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/rogpeppe/go-internal v1.16.0
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.2
	github.com/spf13/cobra v1.10.2
	github.com/stretchr/testify v1.12.1
	github.com/therootcompany/xz v1.0.1
	github.com/ulikunitz/xz v0.5.13
	github.com/zeebo/blake3 v0.2.4
	golang.org/x/crypto v0.58.0
	golang.org/x/image v0.48.0
	golang.org/x/mod v0.43.0
	golang.org/x/net v0.62.0
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.47.0
	kernel.org/pub/linux/libs/security/libcap/psx v1.2.77
	mvdan.cc/sh/v3 v3.14.1
	oras.land/oras-go/v2 v2.7.0
	pgregory.net/rapid v1.3.0
)

require (
	github.com/atotto/clipboard v0.1.4 // indirect
	github.com/charmbracelet/colorprofile v0.4.3 // indirect
	github.com/charmbracelet/ultraviolet v0.0.0-20261008173134-6b8d4baf91b4 // indirect
	github.com/charmbracelet/x/term v0.2.2 // indirect
	github.com/charmbracelet/x/termios v0.1.1 // indirect
	github.com/charmbracelet/x/windows v0.2.2 // indirect
	github.com/clipperhouse/displaywidth v0.11.0 // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/cloudflare/circl v1.6.3 // indirect
	github.com/cpuguy83/go-md2man/v2 v2.0.6 // indirect
	github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/klauspost/cpuid/v2 v2.0.12 // indirect
	github.com/lucasb-eyer/go-colorful v1.4.1 // indirect
	github.com/mattn/go-runewidth v0.0.30 // indirect
	github.com/muesli/cancelreader v0.2.2 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/russross/blackfriday/v2 v2.1.0 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
	github.com/xo/terminfo v1.0.0 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/text v0.44.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
)
