package cli

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/live"
	"unquil/core/redact"
	"unquil/ui/files"
	"unquil/ui/page"
	"unquil/ui/text"
)

// listenRun is one run of listen.
type listenRun struct {
	*app
	l    *listening
	stop context.CancelFunc // ends the listening

	tap       live.Tap
	servers   *live.Servers // that send what they record; nil: packets are heard
	questions live.Tap      // hears what this machine's programs ask; nil: nobody can tell
	now       func() time.Time
	begun     time.Time
	heard     *live.Listening
	owners    *live.Owners // nil: nobody can tell
	programs  live.Programs
	own       []netip.Addr // this machine's addresses
	closing   []func()

	series   *live.Series
	redactor *redact.Redactor
	redacted *evidence.Writer // takes exchanges in place of packets; nil: packets are written
	leftOut  int              // exchanges that are not written, because they would tell a name
	broken   chan error       // why nothing is written any more
	writing  string           // the same in words, once it is known
	written  []*files.Output

	ran text.Ran
}

// open begins to listen, and gives up what that took.
func (r *listenRun) open() error {
	o, err := r.l.tapOptions()
	if err != nil {
		return err
	}
	if r.l.servers != "" {
		return r.openServers()
	}
	o.Interfaces, o.Others = r.l.interfaces, r.l.others
	if r.tap, r.now, err = r.openTap(o, r.l.command != ""); err != nil {
		return fmt.Errorf("listening: %w", err)
	}
	r.closing = append(r.closing, func() { r.tap.Close() })
	if r.lab {
		return nil
	}
	r.own = ownAddresses()
	o.Questions, o.Others = true, false
	if r.questions, err = live.Open(o); err == nil {
		r.closing = append(r.closing, func() { r.questions.Close() })
		finder, end := socketFinder()
		r.closing = append(r.closing, end)
		r.owners = &live.Owners{Finder: finder}
	}
	return dropPrivileges(r.environ)
}

// openServers opens the socket that servers send to what they record.
func (r *listenRun) openServers() error {
	network, at, _ := strings.Cut(r.l.servers, ":")
	if network == "tcp" {
		if host, port, err := net.SplitHostPort(at); err == nil {
			at = net.JoinHostPort(cmp.Or(host, "127.0.0.1"), port)
		} else {
			at = net.JoinHostPort("127.0.0.1", at) // it is only a port
		}
	}
	if network != "unix" && network != "tcp" || at == "" {
		return usage(fmt.Errorf("--from-server %q: %w", shorten(r.l.servers), errSocket))
	}
	if network == "unix" {
		dropDeadSocket(at)
	}
	listener, err := net.Listen(network, at)
	if err != nil {
		return fmt.Errorf("listening: %w", err)
	}
	if network == "tcp" {
		at = listener.Addr().String()
	}
	fmt.Fprintf(r.stderr, "unquil: servers can send to %s:%s\n", network, escape.Of(at))
	servers := live.ListenToServers(listener, network+":"+at)
	r.tap, r.now, r.servers = servers, time.Now, servers
	r.closing = append(r.closing, func() { r.tap.Close() })
	return nil
}

// dropDeadSocket takes a socket away that an earlier run left, if nobody is behind it.
func dropDeadSocket(path string) {
	if info, err := os.Lstat(path); err != nil || info.Mode().Type() != fs.ModeSocket {
		return
	}
	if conn, err := net.DialTimeout("unix", path, time.Second); err == nil {
		conn.Close()
		return
	}
	os.Remove(path)
}

func (r *listenRun) close() {
	for _, end := range r.closing {
		end()
	}
}

// openFiles prepares the files that packets go to, and puts the first in place.
func (r *listenRun) openFiles() error {
	if r.l.to == "" {
		return nil
	}
	each, _ := parseSize(r.l.each)
	if err := r.freeRing(); err != nil {
		return fmt.Errorf("writing packets: %w", err)
	}
	r.series = &live.Series{Create: r.nextFile, Each: each, Every: r.l.every, Now: time.Now}
	if err := r.series.Begin(); err != nil {
		return fmt.Errorf("writing packets: %w", err)
	}
	if len(r.redact) > 0 {
		names, err := r.redactedNames()
		if err != nil {
			return err
		}
		r.redactor = redact.New(names, nil, page.Common)
		r.redactor.HideEvery()
		if r.redacted, err = evidence.New(r.series); err != nil {
			return fmt.Errorf("writing packets: %w", err)
		}
	}
	return r.divertStdout()
}

// numbered reports whether there is more than one file, each with a number in its name.
func (l *listening) numbered() bool { return l.each != "" || l.every > 0 }

// freeRing refuses names with numbers of which an earlier run has left some: in the middle of this
// one it would be too late.
func (r *listenRun) freeRing() error {
	if !r.l.numbered() || r.files.Overwrite {
		return nil
	}
	end := filepath.Ext(r.l.to)
	left, err := filepath.Glob(strings.TrimSuffix(r.l.to, end) + "-[0-9][0-9][0-9][0-9][0-9]" + end)
	if err == nil && len(left) > 0 {
		err = &fs.PathError{Op: "writing", Path: left[0], Err: files.ErrExists}
	}
	return err
}

// nextFile puts the next file in place; in a ring, it takes the oldest away before.
func (r *listenRun) nextFile() (live.File, error) {
	if n := len(r.written) - r.l.files; r.l.files > 0 && n >= 0 {
		if err := r.written[0].Remove(); err != nil {
			return nil, err
		}
		r.written = r.written[1:]
	}
	name := r.l.to
	if r.l.numbered() {
		end := filepath.Ext(name)
		name = fmt.Sprintf("%s-%05d%s", strings.TrimSuffix(name, end), r.series.Files+1, end)
	}
	o, err := r.files.Create(name)
	if err == nil {
		err = o.PutNow()
	}
	if err != nil {
		return nil, err
	}
	r.written = append(r.written, o)
	return liveFile{o}, nil
}

// liveFile is an output that is in place already.
type liveFile struct{ *files.Output }

func (f liveFile) Close() error { return f.Commit() }

// run listens, shows what comes, and at the end what it came to.
func (r *listenRun) run(ctx context.Context) error {
	var err error
	if r.heard, err = live.Listen(r.tap, r.now, r.series != nil && r.redacted == nil); err != nil {
		return err
	}
	r.begun = r.now()
	mode := r.mode()
	plan, err := r.planOf(&r.l.decoding, mode)
	if err != nil {
		return err
	}
	var ended sync.WaitGroup
	listening, stopListening := context.WithCancel(ctx)
	defer stopListening()
	r.stop = stopListening
	var failed error
	ended.Go(func() { failed = r.heard.Run(listening) })
	r.keep(&ended)
	if r.owners != nil {
		ended.Go(func() { r.owners.Follow(listening, r.questions) })
	}
	ended.Go(func() { r.until(listening) })
	study, unread := conversation.NewStudy(context.WithoutCancel(ctx), &liveSource{listening: r.heard}, plan)
	stopListening()
	ended.Wait()
	if study == nil {
		return unread
	}
	return firstOf(r.end(study, mode), failed, unread)
}

// keep has what is heard written.
func (r *listenRun) keep(ended *sync.WaitGroup) {
	if r.series == nil || r.redacted != nil {
		return
	}
	r.broken = make(chan error, 1)
	r.series.Failed = func(err error) { r.broken <- err }
	ended.Go(func() { r.series.Keep(r.heard.Kept()) })
}

// until waits for what ends the listening: a command, or some time.
func (r *listenRun) until(ctx context.Context) {
	if r.l.command != "" {
		r.while(ctx)
		r.stop()
		return
	}
	if r.l.for_ == 0 {
		return
	}
	for end := r.begun.Add(r.l.for_); r.now().Before(end) && ctx.Err() == nil; {
		pause := min(end.Sub(r.now()), 50*time.Millisecond) // the lab's time may be faster
		select {
		case <-ctx.Done():
		case <-time.After(max(pause, time.Millisecond)):
		}
	}
	r.stop()
}

// while runs the command.
func (r *listenRun) while(ctx context.Context) {
	begun := time.Now()
	r.ran.Command = r.l.command
	var err error
	if r.lab {
		err = r.whileInLab(ctx)
	} else {
		cmd := shellCommand(ctx, r.l.command)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, r.stderr, r.stderr // standard output is our own
		if err = cmd.Start(); err == nil {
			if r.owners != nil {
				r.owners.Finder.Watch(cmd.Process.Pid)
			}
			err = cmd.Wait()
		}
	}
	r.ran.Took, r.ran.Cut = time.Since(begun), ctx.Err() != nil
	r.ran.Exit, r.ran.Failed = exitOf(err)
}

// whileInLab runs a command of this program that asks over the wire that is listened to.
func (r *listenRun) whileInLab(ctx context.Context) error {
	words, err := splitLine(r.l.command)
	if err != nil {
		return err
	}
	if len(words) > 0 && words[0] == "unquil" {
		words = words[1:]
	}
	own := &app{ctx: ctx, files: r.files, stdout: r.stderr, stderr: r.stderr, environ: append(slices.Clone(r.environ), "UNQUIL_LAB=1"), args: words, lent: r.simulation}
	if code := own.execute(); code != exitDone {
		return exitCode(code)
	}
	return nil
}

// ExitCode is the code, as of a process that ended.
func (c exitCode) ExitCode() int { return int(c) }

// ownAddresses are those of this machine's interfaces.
func ownAddresses() (all []netip.Addr) {
	addresses, _ := net.InterfaceAddrs()
	for _, a := range addresses {
		if network, ok := a.(*net.IPNet); ok {
			if address, ok := netip.AddrFromSlice(network.IP); ok {
				all = append(all, address.Unmap())
			}
		}
	}
	return all
}

// whose is the program that asked; nil where nobody knows.
func (r *listenRun) whose(t *conversation.Transaction) *live.Program {
	if r.lab && r.l.command != "" {
		return &live.Program{PID: 1, Name: "unquil", Child: true}
	}
	return r.owners.Of(t.Client().AddrPort(), t.ID(), t.TCP())
}

// tell takes an exchange of which nothing more can come.
func (r *listenRun) tell(t *conversation.Transaction) {
	of := r.whose(t)
	if of == nil && r.l.command != "" && slices.Contains(r.own, t.Client().Addr()) {
		of = &live.Program{Child: true, Guess: true}
	}
	r.programs.Add(t, of)
	if r.redacted == nil {
		return
	}
	e := r.redactor.Exchange(t.Exchange())
	if r.redactor.Finder().FindIn([]exchange.Exchange{e}) != "" {
		r.leftOut++
		return
	}
	if r.writing == "" {
		if err := r.redacted.Add(&e); err != nil {
			r.writing = err.Error()
		}
	}
}

// state is how far listening has come.
func (r *listenRun) state() text.Listened {
	s := text.Listened{On: interfaceWords(r.l.interfaces, r.heard.Interfaces()), For: r.now().Sub(r.begun), Written: r.l.to}
	s.Heard, s.Lost, s.Unjudged, s.Unkept = r.heard.Heard()
	select {
	case err := <-r.broken:
		r.writing = err.Error()
	default:
	}
	s.Broken = r.writing
	return s
}

// end shows what listening came to, and says what could not be written.
func (r *listenRun) end(study *conversation.Study, mode *listenMode) error {
	state := r.state()
	var unwritten error
	if r.series != nil {
		unwritten = r.series.Close()
	}
	if r.servers != nil {
		for _, trouble := range r.servers.Troubles() {
			fmt.Fprintf(r.stderr, "unquil: %s\n", escape.Of(trouble))
		}
	}
	if unwritten != nil {
		unwritten = advised{fmt.Errorf("writing %s: %w", r.l.to, unwritten), "what was heard before that is in the file, whole; make room, and listen again"}
	}
	report := reportOf{headline: "What passed at " + state.On, tables: page.CaptureTables(study.Overview), findings: study.Findings, exchanges: study.Kept, left: study.NotKept}
	err := firstOf(r.report(report), mode.end(study, state))
	var wrong error
	if r.l.until == "" || !study.Found(finding.Code(r.l.until)) {
		wrong = verdictOn(study.Findings)
	}
	return firstOf(err, unwritten, wrong)
}
