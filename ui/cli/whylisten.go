package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/capture"
	"unquil/core/diagnosis"
	"unquil/core/live"
	"unquil/lab"
	"unquil/ui/files"
)

// listenOptions are those of commands that listen while they ask.
type listenOptions struct {
	listens    bool
	interfaces []string
	heardFile  string
}

func (a *app) listenFlags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&a.listens, "listen", false, "listen at this machine's interfaces meanwhile: whether it changes, answers or drops what it sends and gets")
	flags.StringSliceVar(&a.interfaces, "interface", nil, "with --listen: at these interfaces, by their `NAMES` (default: all)")
	flags.StringVar(&a.heardFile, "heard", "", "with --listen: write what was heard to `FILE.pcapng`")
}

// checkListen refuses options about listening without it.
func (a *app) checkListen() error {
	if !a.listens && (len(a.interfaces) > 0 || a.heardFile != "") {
		return usage(fmt.Errorf("--interface or --heard without --listen: %w", errNoListen))
	}
	return nil
}

// beside is a tap that is listened to while this program asks. What is heard is kept.
type beside struct {
	tap      live.Tap
	heard    *live.Listening
	stop     context.CancelFunc
	ended    sync.WaitGroup
	mu       sync.Mutex
	capture  []byte
	full     bool
	file     *files.Output
	failed   error
	finished bool
}

// maxBeside is how many bytes of what is heard are kept.
const maxBeside = 64 << 20

// listenBeside begins to listen, before anything is asked of these resolvers. It gives up what
// that took.
func (a *app) listenBeside(from []string) (*beside, error) {
	if !a.listens || a.lab {
		return nil, nil
	}
	tap, err := live.Open(live.Options{Interfaces: a.interfaces, Ports: portsIn(from)})
	if errors.Is(err, live.ErrPermission) {
		err = advised{err, permissionAdvice()}
	}
	if err == nil {
		err = dropPrivileges(a.environ)
	}
	if err != nil {
		return nil, fmt.Errorf("listening: %w", err)
	}
	b := &beside{tap: tap}
	if b.heard, err = live.Listen(tap, time.Now, true); err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	b.stop = stop
	b.ended.Go(func() { b.failed = b.heard.Run(ctx) })
	b.ended.Go(func() {
		for blocks := range b.heard.Kept() {
			b.keep(blocks)
		}
	})
	return b, nil
}

// portsIn are the ports of servers that are named with one.
func portsIn(words []string) (ports []uint16) {
	for _, word := range words {
		if _, number, is := strings.Cut(word, "#"); is {
			if port, err := strconv.ParseUint(number, 10, 16); err == nil && port > 0 {
				ports = append(ports, uint16(port))
			}
		}
	}
	return ports
}

func (b *beside) keep(blocks []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.full = b.full || len(b.capture)+len(blocks) > maxBeside; !b.full {
		b.capture = append(b.capture, blocks...)
	}
}

// settle is how long what was heard may be under way.
const settle = 250 * time.Millisecond

// Capture is what was heard so far.
func (b *beside) Capture(ctx context.Context) (*capture.Reader, error) {
	select {
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	case <-time.After(settle):
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	switch _, lost, _, unkept := b.heard.Heard(); {
	case b.failed != nil:
		return nil, b.failed
	case b.full || lost+unkept > 0:
		return nil, fmt.Errorf("more passed than could be heard")
	}
	return capture.NewReader(bytes.NewReader(slices.Clone(b.capture)))
}

// end ends the listening, and writes what was heard where that is wanted. It may be called for
// none.
func (b *beside) end() error {
	if b == nil || b.finished {
		return nil
	}
	b.finished = true
	b.stop()
	b.ended.Wait()
	b.tap.Close()
	if b.file == nil {
		return nil
	}
	_, err := b.file.Write(b.capture)
	if err == nil {
		err = b.file.Commit()
	}
	if err != nil {
		return fmt.Errorf("writing what was heard: %w", err)
	}
	return nil
}

// wireOf is what passes while cases are judged: at this machine's interfaces, or at the lab's own.
func (a *app) wireOf(b *beside) diagnosis.Wire {
	wait := a.session.Client.Options.Wait
	if b != nil {
		own := ownAddresses()
		return &diagnosis.Tapped{Capture: b.Capture, Wait: wait, Own: func(address netip.Addr) bool { return address.IsLoopback() || slices.Contains(own, address) }}
	}
	network, ok := a.session.Client.Network.(lab.Network)
	if !a.listens || !ok {
		return nil
	}
	heard, wire := network.Heard(a.session.Client.Now)
	a.session.Client.Network = heard
	return &diagnosis.Tapped{Capture: wire.Capture, Wait: wait, Own: a.simulation.Scenario.IsMachine}
}
