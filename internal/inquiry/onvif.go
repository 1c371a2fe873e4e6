package inquiry

import (
	"bytes"
	"context"
	"io"
	"net/http"

	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/wire/wsd"
)

// onvif asks for the device information (ONVIF Core Specification, 8.3).
var onvif = question{profile.AskONVIF, oneTime, func(ctx context.Context, t *talker) error {
	port := uint16(80)
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, t.url("http", port, "/onvif/device_service"),
		bytes.NewReader([]byte(wsd.AskInformation)))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/soap+xml; charset=utf-8")
	response, err := t.client(port).Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, maxPage))
	if err != nil {
		return err
	}
	i, err := wsd.ParseInformation(body)
	if err != nil {
		return err
	}
	t.tell("onvif", "", fact.Vendor, i.Maker, fact.Model, i.Model, fact.Firmware, i.Firmware, fact.Serial, i.Serial)
	return nil
}}
