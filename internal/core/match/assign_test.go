package match

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// most tries every assignment and gives the most that one is worth.
func most(edges []edge) (total int) {
	for i, e := range edges {
		rest := slices.DeleteFunc(slices.Clone(edges[i+1:]), func(x edge) bool {
			return x.row == e.row || x.column == e.column
		})
		total = max(total, e.worth+most(rest))
	}
	return total
}

// Against trying everything: the assignment is the best, and its pairs are tied
// exactly where one without them is worth as much.
func TestTheBestAssignmentAgainstTryingAll(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	ties := 0
	for range 3000 {
		var edges []edge
		rows, columns := 1+random.IntN(4), 1+random.IntN(4)
		for r := range rows {
			for c := range columns {
				if random.IntN(3) > 0 {
					edges = append(edges, edge{r, c, []int{85, 88, 93, 97, 99}[random.IntN(1+random.IntN(5))]})
				}
			}
		}
		total := 0
		for _, p := range best(edges) {
			i := slices.IndexFunc(edges, func(e edge) bool { return e.row == p.row && e.column == p.column })
			total += edges[i].worth
			if tied := most(slices.Delete(slices.Clone(edges), i, i+1)) == most(edges); tied != p.tied {
				t.Fatalf("%v: %+v, but tied: %v", edges, p, tied)
			} else if tied {
				ties++
			}
		}
		if want := most(edges); total != want {
			t.Fatalf("%v: worth %d, the best is %d", edges, total, want)
		}
	}
	if ties < 100 {
		t.Errorf("only %d ties were tried", ties)
	}
}

// Several hundred boxes that all fit several hundred entries equally well do not
// hold anybody up; none of them is decided.
func TestManyEqualsAreTied(t *testing.T) {
	const n = 300
	var edges []edge
	for r := range n {
		for c := range n {
			edges = append(edges, edge{r, c, 88})
		}
	}
	list := best(edges)
	if len(list) != n || slices.ContainsFunc(list, func(p pair) bool { return !p.tied }) {
		t.Errorf("%d pairs, not all tied", len(list))
	}
}
