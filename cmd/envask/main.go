// Envask collects the evidence that a vendor's support desk asks for.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // so that zones are known on every machine

	"envask/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Main(ctx, os.Args[1:], cli.ProcessEnv())
	stop()
	os.Exit(code)
}
