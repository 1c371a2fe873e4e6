package standin

import "redstart/internal/sim/box"

// T1 is the time server of Clepsydra Timeworks: a shell with a wizard, and multicast DNS.
var T1 = box.Model{Maker: "Clepsydra Timeworks", Name: "T1", Firmware: "2.4", Services: []box.Service{box.Greets(22, "SSH-2.0-clepsydra_T1")}, Datagrams: []box.Datagram{box.Announces("_ssh._tcp", 22)}}
