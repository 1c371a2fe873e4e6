package match

import (
	"cmp"
	"math"
	"slices"
)

// edge says how good it is, in percent, to match a row with a column.
type edge struct{ row, column, worth int }

// pair is a match of the best assignment. Tied ones could be different in
// another assignment that is just as good.
type pair struct {
	row, column int
	tied        bool
}

// best finds the assignment whose edges are worth most together, and in which of
// its pairs another one as good differs. What is not connected is solved apart.
func best(edges []edge) (list []pair) {
	for _, group := range connected(edges) {
		list = append(list, solve(group)...)
	}
	slices.SortFunc(list, func(a, b pair) int { return cmp.Compare(a.row, b.row) })
	return list
}

// connected divides edges into groups that share no row and no column.
func connected(edges []edge) [][]edge {
	parent := map[int]int{}
	var root func(int) int
	root = func(n int) int {
		if p, ok := parent[n]; ok && p != n {
			parent[n] = root(p)
			return parent[n]
		}
		parent[n] = n
		return n
	}
	column := func(e edge) int { return -1 - e.column }
	for _, e := range edges {
		parent[root(e.row)] = root(column(e))
	}
	groups := map[int][]edge{}
	for _, e := range edges {
		groups[root(e.row)] = append(groups[root(e.row)], e)
	}
	var list [][]edge
	for _, g := range groups {
		list = append(list, g)
	}
	return list
}

// solve is the Hungarian method with potentials (Kuhn, Munkres; O(n³)) on one
// group. A row may stay without a column; that is worth nothing.
func solve(group []edge) (pairs []pair) {
	var rows, columns []int
	for _, e := range group {
		rows, columns = append(rows, e.row), append(columns, e.column)
	}
	slices.Sort(rows)
	slices.Sort(columns)
	rows, columns = slices.Compact(rows), slices.Compact(columns)
	n, m := len(rows), len(columns)+len(rows) // each row has a column of its own for staying without
	cost := make([][]int, n)
	for i := range cost {
		cost[i] = make([]int, m)
	}
	for _, e := range group {
		i, _ := slices.BinarySearch(rows, e.row)
		j, _ := slices.BinarySearch(columns, e.column)
		cost[i][j] = -e.worth
	}
	u, v, match, way := make([]int, n+1), make([]int, m+1), make([]int, m+1), make([]int, m+1)
	for i := 1; i <= n; i++ {
		match[0] = i
		at := 0
		least := slices.Repeat([]int{math.MaxInt}, m+1)
		used := make([]bool, m+1)
		for match[at] != 0 {
			used[at] = true
			row, delta, next := match[at], math.MaxInt, 0
			for j := 1; j <= m; j++ {
				if used[j] {
					continue
				}
				if c := cost[row-1][j-1] - u[row] - v[j]; c < least[j] {
					least[j], way[j] = c, at
				}
				if least[j] < delta {
					delta, next = least[j], j
				}
			}
			for j := 0; j <= m; j++ {
				if used[j] {
					u[match[j]] += delta
					v[j] -= delta
				} else if least[j] != math.MaxInt {
					least[j] -= delta
				}
			}
			at = next
		}
		for at != 0 {
			match[at] = match[way[at]]
			at = way[at]
		}
	}
	column := make([]int, n+1) // of each row
	for j, i := range match[1:] {
		column[i] = j + 1
	}
	// moves lists whose columns a row could take at no loss: rows, and 0 for a
	// column that nobody has. From 0 it leads to the rows whose own column may as
	// well be nobody's (complementary slackness).
	moves := func(i int) (list []int) {
		if i == 0 {
			for k := 1; k <= n; k++ {
				if v[column[k]] == 0 {
					list = append(list, k)
				}
			}
			return list
		}
		for j := 1; j <= m; j++ {
			if j != column[i] && cost[i-1][j-1] == u[i]+v[j] {
				list = append(list, match[j])
			}
		}
		return list
	}
	for i := 1; i <= n; i++ {
		if j := column[i]; cost[i-1][j-1] < 0 {
			pairs = append(pairs, pair{rows[i-1], columns[j-1], returns(i, n, moves)})
		}
	}
	return pairs
}

// returns reports whether moves lead from a row back to itself: then everybody on
// the way may move on by one, and the whole is worth as much.
func returns(row, n int, moves func(int) []int) bool {
	seen := make([]bool, n+1)
	for todo := moves(row); len(todo) > 0; {
		at := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if at == row {
			return true
		}
		if !seen[at] {
			seen[at] = true
			todo = append(todo, moves(at)...)
		}
	}
	return false
}
