package handover

import (
	"io"

	"redstart/internal/core/problem"
)

// Logins writes a sheet of paper with what opens chosen devices, for somebody. It is made only
// when asked for by name.
func Logins(out io.Writer, r Record, list []Credential, to string) error {
	p := newPaper(r, r.say("Logins"))
	p.heading(0, r.say("Logins"))
	p.say(r.say("For") + ": " + to + ". " + r.say("Keep this sheet locked away; whoever has it opens these devices."))
	var rows [][]string
	for _, c := range list {
		if !Drawable(c.Password) || !Drawable(c.User) {
			return problem.New(problem.Conflict, "its login has signs that cannot be printed", "give it another one: redstart vault rotate "+c.Tag).About(c.Tag)
		}
		rows = append(rows, []string{c.Tag, c.Address, c.MAC, c.User, c.Password, r.say(c.State)})
	}
	p.table([]string{"Tag", "Address", "MAC", "User", "Password", "State"}, []float64{3, 2.2, 2.6, 2, 4.5, 2}, rows)
	return p.Output(out)
}
