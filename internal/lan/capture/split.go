package capture

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"redstart/internal/core/address"
)

// Part is the capture of one device's conversations.
type Part struct {
	Tag     string
	Content []byte // pcapng; its section has the tag as comment
}

// Split takes from a capture what each device sent and what was sent to it alone, by tag. What
// cannot be read at the end of a capture that was cut off is left out.
func Split(in io.Reader, tags map[address.MAC]string, program string) ([]Part, error) {
	r, err := pcapgo.NewNgReader(in, pcapgo.DefaultNgReaderOptions)
	if err != nil {
		return nil, err
	}
	outs, files := map[string]*pcapgo.NgWriter{}, map[string]*bytes.Buffer{}
	for {
		frame, info, err := r.ReadPacketData()
		if err != nil {
			break
		}
		if len(frame) < 14 {
			continue
		}
		// Two of them may have talked to each other: it is of both.
		for _, mac := range []address.MAC{address.MAC(frame[:6]), address.MAC(frame[6:12])} {
			tag := tags[mac]
			if tag == "" {
				continue
			}
			if outs[tag] == nil {
				face := pcapgo.DefaultNgInterface
				face.LinkType, face.SnapLength, face.Comment = layers.LinkTypeEthernet, 0, tag
				options := pcapgo.DefaultNgWriterOptions
				options.SectionInfo.Application, options.SectionInfo.Comment = program, tag
				files[tag] = &bytes.Buffer{}
				if outs[tag], err = pcapgo.NewNgWriterInterface(files[tag], face, options); err != nil {
					return nil, err
				}
			}
			info.InterfaceIndex = 0
			if err := outs[tag].WritePacket(info, frame); err != nil {
				return nil, err
			}
		}
	}
	var parts []Part
	for tag, out := range outs {
		err = errors.Join(err, out.Flush())
		parts = append(parts, Part{tag, files[tag].Bytes()})
	}
	slices.SortFunc(parts, func(a, b Part) int { return strings.Compare(a.Tag, b.Tag) })
	return parts, err
}
