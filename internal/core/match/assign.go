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
		total, pairs := solve(group)
		for _, a := range pairs {
			without := slices.DeleteFunc(slices.Clone(group), func(e edge) bool { return e.row == a.row && e.column == a.column })
			other, _ := solve(without)
			list = append(list, pair{a.row, a.column, other == total})
		}
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
func solve(group []edge) (total int, pairs []edge) {
	var rows, columns []int
	for _, e := range group {
		rows, columns = append(rows, e.row), append(columns, e.column)
	}
	slices.Sort(rows)
	slices.Sort(columns)
	rows, columns = slices.Compact(rows), slices.Compact(columns)
	n, m := len(rows), len(columns)+len(rows) // each row has a column of its own for staying without
	if n == 0 {
		return 0, nil
	}
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
	for j := 1; j <= len(columns); j++ {
		if i := match[j]; i != 0 && cost[i-1][j-1] < 0 {
			total -= cost[i-1][j-1]
			pairs = append(pairs, edge{rows[i-1], columns[j-1], -cost[i-1][j-1]})
		}
	}
	return total, pairs
}
