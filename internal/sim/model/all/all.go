// Package all is the list of the simulated models that can be set. A new one is a
// folder beside this one and a line here.
package all

import (
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/b4"
	"redstart/internal/sim/model/c20"
	"redstart/internal/sim/model/fs8"
	"redstart/internal/sim/model/k3"
	"redstart/internal/sim/model/p12"
	"redstart/internal/sim/model/t1"
)

// Stock is what there is of each.
var Stock = []box.Stock{fs8.Stock, c20.Stock, b4.Stock, k3.Stock, p12.Stock, t1.Stock}
