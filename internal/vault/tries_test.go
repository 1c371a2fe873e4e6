package vault_test

import (
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/vault"
)

// A login that got no answer is no wrong one: it may be tried again, yet not so often that the
// box may have counted enough of them to block.
func TestALoginWithoutAnAnswerIsTriedAgain(t *testing.T) {
	_, v := open(t, t.TempDir())
	login := profile.Login{User: "u", Password: "first-secret"}
	if err := put(v, one, login); err != nil {
		t.Fatal(err)
	}
	tries := v.Try(one, profile.Accounts{Tries: 3}, "run 1")
	may := func(want bool) {
		t.Helper()
		if err := tries.May(ctx, login); (err == nil) != want {
			t.Fatalf("it may be tried: %t, want %t: %v", err == nil, want, err)
		}
	}
	may(true)
	may(false) // once
	tries.Unanswered(login)
	if list, err := tries.Candidates(ctx); err != nil || len(list) != 1 || tries.Was(login) {
		t.Errorf("without an answer it is as if tried: %v, %v", list, err)
	}
	may(true)
	tries.Unanswered(login)
	may(false) // a third might block it
	logins, err := v.Logins(ctx, one)
	if err != nil {
		t.Fatal(err)
	}
	if err := tries.Accepted(ctx, logins[0]); err != nil {
		t.Fatal(err)
	}
	tries.Anew()
	may(true)
	if logins, err = v.Logins(ctx, one); err != nil || logins[0].State != state.Accepted {
		t.Errorf("%v, %v", logins, err)
	}
}

// A model that never blocks, as far as its profile says, has no number of tries; and what was refused while
// it took no login at all is taken back.
func TestWhatCountsAsAWrongLogin(t *testing.T) {
	_, v := open(t, t.TempDir())
	wrong := func(accounts profile.Accounts, forgiven bool) error {
		t.Helper()
		tries := v.Try(one, accounts, "run 1")
		for _, password := range []string{"a", "b", "c", "d"} {
			if err := tries.May(ctx, profile.Login{Password: password}); err != nil {
				return err
			}
			if err := tries.Refused(ctx, vault.Login{}); err != nil {
				t.Fatal(err)
			}
			if forgiven {
				if err := tries.Forgive(ctx); err != nil {
					t.Fatal(err)
				}
			}
		}
		return nil
	}
	if err := wrong(profile.Accounts{Tries: 3}, true); err != nil {
		t.Errorf("forgiven, and still counted: %v", err)
	}
	if err := wrong(profile.Accounts{}, false); err != nil {
		t.Errorf("it never blocks: %v", err)
	}
	if err := wrong(profile.Accounts{Tries: 3}, false); err == nil {
		t.Error("it blocks at three, and four were tried")
	}
}
