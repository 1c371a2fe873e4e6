module redstart

go 1.26.8

require (
	github.com/goccy/go-yaml v1.19.2
	github.com/mdlayher/packet v1.2.0
	gvisor.dev/gvisor v0.0.0-20260905035102-160fafc42237
)

require (
	github.com/google/btree v1.1.2 // indirect
	github.com/icholy/digest v1.2.0 // indirect
	github.com/mdlayher/socket v0.7.0 // indirect
	golang.org/x/exp v0.0.0-20250711185948-6ae5c78190dc // indirect
	golang.org/x/net v0.59.0 // indirect
	golang.org/x/sync v0.23.0 // indirect
	golang.org/x/sys v0.48.0 // indirect
	golang.org/x/time v0.15.0 // indirect
)
