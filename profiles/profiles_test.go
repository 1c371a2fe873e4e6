package profiles_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"redstart/profiles"
)

func TestBundledProfilesAreSound(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	if len(set) < 3 {
		t.Fatalf("%d bundled profiles, want at least 3", len(set))
	}
	for _, p := range set.Sorted() {
		if p.Factory.Login != nil && p.Password.Check(p.Factory.Login.Password) == nil {
			t.Errorf("%s: the factory password passes the rules for new ones", p.ID)
		}
		for _, s := range p.Order {
			if h := s.ByHand; h != nil && h.Terms == "" && h.ShownBy == "" && len(h.Moves) == 0 {
				t.Errorf("%s: nothing shows whether this was done: %s", p.ID, h.Do)
			}
		}
	}
}

func TestOwnFolderReplacesAndRefuses(t *testing.T) {
	dir := t.TempDir()
	doc, err := os.ReadFile("ovalis-c20.yaml")
	if err != nil {
		t.Fatal(err)
	}
	own := strings.Replace(string(doc), "takes: 3s", "takes: 7s", 1)
	if err := os.WriteFile(filepath.Join(dir, "mine.yaml"), []byte(own), 0o600); err != nil {
		t.Fatal(err)
	}
	set, _, err := profiles.Load(dir)
	if err != nil {
		t.Fatal(err)
	}
	if got, _ := set["ovalis-c20"].Restart.Takes.MarshalText(); string(got) != "7s" {
		t.Errorf("own profile did not replace the bundled one: takes %s", got)
	}

	wrong := strings.Replace(string(doc), "kind: camera", "kindd: camera", 1)
	if err := os.WriteFile(filepath.Join(dir, "wrong.yaml"), []byte(wrong), 0o600); err != nil {
		t.Fatal(err)
	}
	set, broken, err := profiles.Load(dir)
	if err != nil || len(broken) != 1 || broken[0].File != "wrong.yaml" ||
		!strings.Contains(broken[0].Reason, "kindd") {
		t.Errorf("want it named with what is wrong, got %v, %v", broken, err)
	}
	if got, _ := set["ovalis-c20"].Restart.Takes.MarshalText(); string(got) != "7s" {
		t.Errorf("a broken profile takes the sound ones with it: takes %s", got)
	}
	if _, _, err := profiles.Load(filepath.Join(dir, "absent")); err != nil {
		t.Errorf("an absent folder is an empty one, got %v", err)
	}
}
