package lease

// Once has boxes asked once whether they hold what they were given.
func Once() { looks = 1 }
