module redstart

go 1.26.8

require (
	codeberg.org/go-pdf/fpdf v0.12.0
	filippo.io/age v1.3.2
	github.com/PuerkitoBio/goquery v1.14.0
	github.com/andybalholm/cascadia v1.3.5
	github.com/antchfx/xmlquery v1.5.2
	github.com/antchfx/xpath v1.3.9
	github.com/chromedp/cdproto v0.160.3
	github.com/chromedp/chromedp v0.23.1
	github.com/creack/pty v1.1.24
	github.com/fsnotify/fsnotify v1.10.1
	github.com/go-json-experiment/json v1.27.2
	github.com/goccy/go-yaml v1.19.2
	github.com/gofrs/flock v0.13.2
	github.com/gopacket/gopacket v1.7.7
	github.com/gosnmp/gosnmp v1.47.0
	github.com/icholy/digest v1.2.0
	github.com/insomniacslk/dhcp v0.0.0-20260901064844-234b97448fae
	github.com/invopop/jsonschema v0.14.0
	github.com/jedib0t/go-pretty/v6 v6.9.2
	github.com/jmoiron/sqlx v1.4.0
	github.com/labstack/echo/v5 v5.4.6
	github.com/mdlayher/packet v1.2.0
	github.com/miekg/dns v1.1.73
	github.com/pressly/goose/v3 v3.30.1
	github.com/schollz/progressbar/v3 v3.19.1
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.1.0
	github.com/xuri/excelize/v2 v2.11.1
	go.bug.st/serial v1.8.0
	golang.org/x/crypto v0.59.0
	golang.org/x/image v0.48.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.48.0
	golang.org/x/text v0.44.0
	golang.org/x/time v0.16.0
	gvisor.dev/gvisor v0.0.0-20260905035102-160fafc42237
	modernc.org/sqlite v1.62.0
	rsc.io/qr v0.2.0
)

require (
	filippo.io/hpke v0.4.0 // indirect
	github.com/bahlo/generic-list-go v0.2.0 // indirect
	github.com/buger/jsonparser v1.1.2 // indirect
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/golang/groupcache v0.0.0-20210331224755-41bb18bfe9da // indirect
	github.com/google/btree v1.1.2 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/josharian/native v1.1.0 // indirect
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/mdlayher/socket v0.7.0 // indirect
	github.com/mfridman/interpolate v0.2.0 // indirect
	github.com/mitchellh/colorstring v0.0.0-20190213212951-d06e56a500db // indirect
	github.com/ncruces/go-strftime v1.1.0 // indirect
	github.com/pb33f/ordered-map/v2 v2.3.1 // indirect
	github.com/pierrec/lz4/v4 v4.1.33 // indirect
	github.com/remyoudompheng/bigfft v0.0.0-20230129092748-24d4a6f8daec // indirect
	github.com/richardlehane/mscfb v1.0.9 // indirect
	github.com/richardlehane/msoleps v1.0.6 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/sethvargo/go-retry v0.5.0 // indirect
	github.com/tiendc/go-deepcopy v1.7.2 // indirect
	github.com/u-root/uio v0.0.0-20230220225925-ffce2a382923 // indirect
	github.com/xuri/efp v0.0.3-0.20260924042702-217b81952dec // indirect
	github.com/xuri/nfp v0.0.2-0.20250530014748-2ddeb826f9a9 // indirect
	go.uber.org/multierr v1.11.0 // indirect
	go.yaml.in/yaml/v4 v4.0.0-rc.2 // indirect
	golang.org/x/exp v0.0.0-20261109185158-a52e3aef5920 // indirect
	golang.org/x/net v0.62.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
	modernc.org/libc v1.80.2 // indirect
	modernc.org/mathutil v1.7.1 // indirect
	modernc.org/memory v1.12.1 // indirect
)
