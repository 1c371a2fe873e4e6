module redstart

go 1.26.8

require github.com/goccy/go-yaml v1.19.2
