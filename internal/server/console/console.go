// Package console serves the built web console, which is embedded.
package console

import (
	"cmp"
	"embed"
	"io/fs"
	"mime"
	"net/http"
	"path/filepath"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// Handler serves the console's files; any other path gives its start page,
// since the console routes by itself.
func Handler() http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the name is a constant
	}
	if _, err := fs.Stat(files, "index.html"); err != nil {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			http.Error(w, "This binary was built without its console. Build it with: make build", http.StatusNotFound)
		})
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/")
		if _, err := fs.Stat(files, path); err != nil {
			if strings.HasPrefix(path, "assets/") || strings.HasPrefix(path, "api/") {
				http.NotFound(w, r)
				return
			}
			r.URL.Path = "/"
		}
		if strings.HasPrefix(path, "assets/") {
			// Names of built files change with their contents.
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			w.Header().Set("Vary", "Accept-Encoding")
			if _, err := fs.Stat(files, path+".br"); err == nil && takesBrotli(r) {
				w.Header().Set("Content-Encoding", "br")
				w.Header().Set("Content-Type", cmp.Or(mime.TypeByExtension(filepath.Ext(path)), "text/javascript; charset=utf-8"))
				r.URL.Path += ".br"
			}
		} else {
			w.Header().Set("Cache-Control", "no-cache")
		}
		server.ServeHTTP(w, r)
	})
}

// Compressed reports whether a file comes compressed as it lies there.
func Compressed(r *http.Request) bool {
	return strings.HasPrefix(r.URL.Path, "/assets/") && takesBrotli(r)
}

// takesBrotli reports whether whoever asks takes what is compressed so (RFC 7932; RFC 9110, 12.5.3).
func takesBrotli(r *http.Request) bool {
	for _, one := range strings.Split(r.Header.Get("Accept-Encoding"), ",") {
		if name, weight, _ := strings.Cut(strings.TrimSpace(one), ";"); name == "br" {
			return !strings.HasSuffix(strings.ReplaceAll(weight, " ", ""), "q=0")
		}
	}
	return false
}
