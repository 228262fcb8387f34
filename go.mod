module bellwether

go 1.26.0

require (
	github.com/adrg/xdg v0.5.3
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/creack/pty v1.1.24
	github.com/fxamacker/cbor/v2 v2.10.0
	github.com/go-json-experiment/json v1.27.2
	github.com/gofrs/flock v0.13.1
	github.com/hashicorp/go-retryablehttp v0.7.8
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/rogpeppe/go-internal v1.16.0
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/schollz/progressbar/v3 v3.19.1
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.9
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v3 v3.0.5
	golang.org/x/image v0.48.0
	golang.org/x/mod v0.42.0
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.44.0
	golang.org/x/text v0.44.0
)

require (
	github.com/cpuguy83/go-md2man/v2 v2.0.6 // indirect
	github.com/hashicorp/go-cleanhttp v0.5.2 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/mitchellh/colorstring v0.0.0-20190213212951-d06e56a500db // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/russross/blackfriday/v2 v2.1.0 // indirect
	github.com/x448/float16 v0.8.4 // indirect
	golang.org/x/tools v0.52.0 // indirect
)
