package client_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"redstart/internal/client"
)

// A program asks a service for the plan with what is known of each box.
func ExampleClient_Entries() {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintln(w, `[{"tag":"QUAY-CAM-01","state":"verified","address":"10.40.8.30"}]`)
	}))
	defer service.Close()
	c := client.New(client.Handle{URL: service.URL, Token: "a token that may look"}).At("skerry-point")
	entries, err := c.Entries(context.Background())
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range entries {
		fmt.Println(e.Tag, e.State, e.Address)
	}
	// Output: QUAY-CAM-01 verified 10.40.8.30
}
