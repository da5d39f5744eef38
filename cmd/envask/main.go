// Envask collects the evidence that a vendor's support desk asks for.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // so that zones are known on every machine

	"envask/internal/cli"
	"envask/internal/fault"
)

func main() {
	ctx, stop := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		stop()
		<-signals // the second one ends at once: what is on the disk is whole at any moment
		os.Exit(fault.ExitCodes[fault.Interrupted])
	}()
	code := cli.Main(ctx, os.Args[1:], cli.ProcessEnv())
	stop()
	os.Exit(code)
}
