// Package licence sorts out what suppliers send back: which file is the licence for which
// device, by the host id that is in it, whatever the file is called.
package licence

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Bounds of what is taken in.
const (
	MostFiles = 2000
	MaxFile   = 1 << 20  // bytes of one licence
	MaxAll    = 64 << 20 // bytes of all
	leastID   = 4        // characters of a host id that is looked for
)

// File is one file that came.
type File struct {
	Name    string
	Content []byte
}

// Wanted is a device that needs a licence.
type Wanted struct {
	Tag, Key string // the entry, and the setting that names its licence
	HostID   string
}

// Fit says what became of a file: whose it is, or why it is nobody's.
type Fit struct {
	File string `json:"file"` // as it came
	Tag  string `json:"tag"`  // "" for nobody's
	Key  string `json:"key"`
	Host string `json:"host"`
	Why  string `json:"why"` // it is nobody's; "" where it is somebody's
}

// word is what a host id can be within a text.
var word = regexp.MustCompile(`[0-9A-Za-z][0-9A-Za-z:._-]*`)

// Sort tells whose each file is. A host id counts only as a whole word, in capitals or not;
// one that two devices tell, a file that names two devices, and a device for which two files
// came are nobody's to decide here.
func Sort(files []File, wanted []Wanted) []Fit {
	byID := map[string][]Wanted{}
	for _, w := range wanted {
		if len(w.HostID) >= leastID {
			id := strings.ToLower(w.HostID)
			byID[id] = append(byID[id], w)
		}
	}
	list := make([]Fit, len(files))
	came := map[string][]int{} // by entry and setting
	for i, f := range files {
		list[i] = fit(f, byID)
		if list[i].Tag != "" {
			key := list[i].Tag + "\x00" + list[i].Key
			came[key] = append(came[key], i)
		}
	}
	for _, numbers := range came {
		for _, i := range numbers {
			others := slices.ContainsFunc(numbers, func(j int) bool { return !bytes.Equal(files[i].Content, files[j].Content) })
			if others {
				list[i] = Fit{File: list[i].File, Host: list[i].Host, Why: "another file is for " + list[i].Tag + " too, and says something else"}
			}
		}
	}
	return list
}

func fit(f File, byID map[string][]Wanted) Fit {
	of := map[string]Wanted{}
	host := ""
	for _, w := range word.FindAll(f.Content, -1) {
		id := strings.ToLower(strings.TrimRight(string(w), ".:_-"))
		for _, d := range byID[id] {
			of[d.Tag+"\x00"+d.Key], host = d, d.HostID
		}
	}
	out := Fit{File: f.Name, Host: host}
	switch tags := slices.Sorted(maps.Keys(of)); len(tags) {
	case 0:
		out.Why = "no host id of a device is in it"
	case 1:
		d := of[tags[0]]
		out.Tag, out.Key = d.Tag, d.Key
	default:
		var names []string
		for _, key := range tags {
			names = append(names, of[key].Tag)
		}
		out.Why = "it is for several devices: " + strings.Join(names, ", ")
	}
	return out
}

// Unpack gives the files of an archive (ZIP), or the one file that it is.
func Unpack(name string, content []byte) ([]File, error) {
	if !bytes.HasPrefix(content, []byte("PK\x03\x04")) {
		if len(content) > MaxFile {
			return nil, fmt.Errorf("it is larger than %d KiB: that is no licence", MaxFile>>10)
		}
		return []File{{name, content}}, nil
	}
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil, fmt.Errorf("it is a damaged archive: %w", err)
	}
	var list []File
	all := 0
	for _, f := range archive.File {
		if f.FileInfo().IsDir() {
			continue
		}
		if len(list) == MostFiles {
			return nil, fmt.Errorf("it holds more than %d files", MostFiles)
		}
		in, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s in it cannot be read: %w", path.Base(f.Name), err)
		}
		text, err := io.ReadAll(io.LimitReader(in, MaxFile+1))
		_ = in.Close() // it was read
		switch all += len(text); {
		case err != nil:
			return nil, fmt.Errorf("%s in it cannot be read: %w", path.Base(f.Name), err)
		case len(text) > MaxFile:
			return nil, fmt.Errorf("%s in it is larger than %d KiB: that is no licence", path.Base(f.Name), MaxFile>>10)
		case all > MaxAll:
			return nil, fmt.Errorf("what is in it is larger than %d MiB", MaxAll>>20)
		}
		list = append(list, File{f.Name, text})
	}
	return list, nil
}
