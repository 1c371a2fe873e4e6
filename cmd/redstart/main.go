// Command redstart sets up field devices in bulk on a flat Ethernet network
// and proves the result.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"redstart/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Main(ctx, os.Args[1:], cli.World{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv})
	stop()
	os.Exit(code)
}
