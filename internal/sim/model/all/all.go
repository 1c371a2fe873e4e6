// Package all is the list of the simulated models. A new one is a folder beside this one
// and a line here.
package all

import (
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/ap2"
	"redstart/internal/sim/model/b4"
	"redstart/internal/sim/model/c20"
	"redstart/internal/sim/model/c31"
	"redstart/internal/sim/model/d1"
	"redstart/internal/sim/model/d2"
	"redstart/internal/sim/model/d4"
	"redstart/internal/sim/model/fs24"
	"redstart/internal/sim/model/fs5"
	"redstart/internal/sim/model/fs8"
	"redstart/internal/sim/model/k3"
	"redstart/internal/sim/model/m7"
	"redstart/internal/sim/model/m9"
	"redstart/internal/sim/model/p12"
	"redstart/internal/sim/model/r16"
	"redstart/internal/sim/model/r2"
	"redstart/internal/sim/model/t1"
	"redstart/internal/sim/model/v2"
	"redstart/internal/sim/model/w1"
)

// Stock is what there is of each.
var Stock = []box.Stock{fs8.Stock, c20.Stock, b4.Stock, c31.Stock, ap2.Stock, m7.Stock, d1.Stock, d4.Stock, r2.Stock,
	d2.Stock, w1.Stock, r16.Stock, fs5.Stock,
	t1.Stock, k3.Stock, p12.Stock, fs24.Stock, v2.Stock, m9.Stock}
