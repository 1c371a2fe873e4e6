package site

import "testing"

func TestRoomGrowsWithWhatIsInUseUpToTheMachine(t *testing.T) {
	const gib = 1 << 30
	for _, c := range []struct{ live, most, want int64 }{
		{10 << 20, gib, usualRoom}, {60 << 20, gib, usualRoom}, {300 << 20, gib, 600 << 20}, {900 << 20, gib, gib},
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
