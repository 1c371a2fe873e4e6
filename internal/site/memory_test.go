package site

import "testing"

func TestRoomGrowsWithWhatIsInUseUpToTheMachine(t *testing.T) {
	const gib = 1 << 30
	for _, c := range []struct{ live, most, want int64 }{
		{10 << 20, gib, usualRoom}, {60 << 20, gib, usualRoom}, {300 << 20, gib, 450 << 20}, {900 << 20, gib, gib},
		{10 << 20, 100 << 20, 100 << 20},
	} {
		if got := room(c.live, c.most); got != c.want {
			t.Errorf("%d in use, %d there: %d, want %d", c.live, c.most, got, c.want)
		}
	}
	if memory() < 64<<20 {
		t.Errorf("the machine has %d bytes", memory())
	}
}

func TestMemoryIsGivenBackOnceAtRest(t *testing.T) {
	t.Parallel()
	r, asked := resting{}, uint64(0)
	look := func(times int, more uint64) (given int) {
		for range times {
			if asked += more; r.now(asked) {
				given++
			}
		}
		return given
	}
	if n := look(20, 100<<20); n != 0 {
		t.Errorf("at work it was given back %d times", n)
	}
	if n := look(50, 1<<20); n != 1 {
		t.Errorf("at rest it was given back %d times", n)
	}
	if n := look(1, 100<<20) + look(quietLooks-1, 0); n != 0 {
		t.Errorf("it was given back %d times before it was at rest", n)
	}
	if n := look(1, 0); n != 1 {
		t.Error("it is not given back after more work")
	}
}
