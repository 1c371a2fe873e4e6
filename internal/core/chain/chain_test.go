package chain

import (
	"bytes"
	"crypto/ed25519"
	"strings"
	"testing"
)

var key = ed25519.NewKeyFromSeed([]byte("a seed of thirty-two bytes, here"))

// written gives a record of a few lines.
func written(t testing.TB, kinds ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := Begin(&out, key)
	for i, is := range kinds {
		w.Add(is, map[string]any{"n": i, "text": "<&> \u2028"})
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func checked(text []byte) (kinds string, err error) {
	_, _, err = Check(bytes.NewReader(text), func(l Line) { kinds += l.Is + " " })
	return kinds, err
}

func TestARecordIsWhatItWas(t *testing.T) {
	text := written(t, "run", "step", "check")
	signer, lines, err := Check(bytes.NewReader(text), func(Line) {})
	if err != nil || lines != 3 || !signer.Equal(key.Public()) || KeyText(signer) == "" {
		t.Errorf("%d lines, %v", lines, err)
	}
	if kinds, err := checked(text); err != nil || kinds != "run step check " {
		t.Errorf("%q %v", kinds, err)
	}
	if _, err := checked(written(t)); err != nil {
		t.Errorf("one without lines: %v", err)
	}
	var long bytes.Buffer
	w := Begin(&long, key)
	w.Add("run", strings.Repeat("x", longestLine))
	if err := w.Close(); err == nil {
		t.Error("a line that nobody could read is written")
	}
}

// Whatever is done to a record afterwards is noticed, in one sentence.
func TestNobodyImprovesARecord(t *testing.T) {
	text := written(t, "run", "step", "check")
	lines := bytes.SplitAfter(text, []byte("\n"))
	join := func(list ...[]byte) []byte { return bytes.Join(list, nil) }
	other := ed25519.NewKeyFromSeed([]byte("another seed of thirty-two bytes"))
	var theirs bytes.Buffer
	w := Begin(&theirs, other)
	w.Add("run", 1)
	_ = w.Close()
	forged := bytes.SplitAfter(theirs.Bytes(), []byte("\n"))
	for name, c := range map[string]struct {
		text []byte
		want string
	}{
		"nothing":         {nil, "no record"},
		"another file":    {[]byte("tag,kind\n"), "no record"},
		"a changed value": {bytes.Replace(text, []byte(`"n":1`), []byte(`"n":7`), 1), "changed before line 4"},
		"a line less":     {join(lines[0], lines[1], lines[3], lines[4]), "changed before line 3"},
		"a line more":     {join(lines[0], lines[1], lines[1], lines[2], lines[3], lines[4]), "changed before line 3"},
		"cut off":         {join(lines[:4]...), "cut off"},
		"half a line":     {text[:len(text)-20], "cannot be read in line 5"},
		"more after it":   {append(bytes.Clone(text), "{}\n"...), "goes on after"},
		"of two keys":     {join(lines[0], forged[1], forged[2]), "changed before line 2"},
		"another's name":  {bytes.Replace(theirs.Bytes(), forged[0], lines[0], 1), "changed before line 2"},
		"too long a line": {join(lines[0], bytes.Repeat([]byte("x"), longestLine+1)), "too long"},
	} {
		if _, err := checked(c.text); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	// A chain that is whole, but signed with another key than it names.
	var out bytes.Buffer
	mixed := Begin(&out, key)
	mixed.key = other
	mixed.Add("run", 1)
	_ = mixed.Close()
	if _, err := checked(out.Bytes()); err == nil || !strings.Contains(err.Error(), "signature does not match") {
		t.Error(err)
	}
}

func FuzzCheck(f *testing.F) {
	f.Add(written(f, "run", "step"))
	f.Add([]byte(`{"form":"redstart/record/1","key":"AAAA"}` + "\n{}\n"))
	whole := written(f, "run", "step")
	f.Fuzz(func(t *testing.T, text []byte) {
		_, lines, err := Check(bytes.NewReader(text), func(Line) {})
		if err == nil && !bytes.Equal(bytes.TrimSuffix(text, []byte("\n")), bytes.TrimSuffix(whole, []byte("\n"))) {
			t.Errorf("%d lines are taken that nobody signed", lines)
		}
	})
}
