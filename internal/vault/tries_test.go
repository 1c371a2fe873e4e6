package vault_test

import (
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/core/state"
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
