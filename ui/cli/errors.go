package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unquil/core/capture"
	"unquil/core/casework"
	"unquil/core/comparison"
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/live"
	"unquil/core/machine"
	"unquil/core/serverlog"
	"unquil/core/tsig"
	"unquil/core/wire"
	"unquil/core/wording"
	"unquil/core/zonecare"
	"unquil/core/zonefile"
	"unquil/ui/data"
	"unquil/ui/files"
)

var (
	errColour       = errors.New("not one of auto, always, never")
	errWait         = errors.New("a wait of this length is a mistake")
	errBounds       = errors.New("a number or time is out of range")
	errPart         = errors.New("no such part")
	errTogether     = errors.New("these options exclude each other")
	errPrefix       = errors.New("not an address or a prefix")
	errAddress      = errors.New("not an address")
	errTransport    = errors.New("not a transport")
	errFamily       = errors.New("none of the resolvers has an address of that family")
	errPEM          = errors.New("there is no certificate in it")
	errNoAddress    = errors.New("it has no address")
	errSetting      = errors.New("no such setting")
	errWide         = errors.New("more than 65536 addresses")
	errMessage      = errors.New("neither hex, nor base64, nor a file")
	errServers      = errors.New("neither all nor one")
	errWalkOver     = errors.New("the zones' own servers are queried over udp or tcp")
	errTransferOver = errors.New("zones are transferred over tcp or tls")
	errView         = errors.New("not a view")
	errSigned       = errors.New("not what signatures come to")
	errOutcome      = errors.New("not an outcome")
	errFinding      = errors.New("not a finding")
	errBetween      = errors.New("not a pair of times")
	errExchange     = errors.New("no selected exchange has this number")
	errPacket       = errors.New("the capture has no packet with this number")
	errMachine      = errors.New("the lab has no such machine")
	errNotAsked     = errors.New("nobody looked it up in this capture")
	errCode         = errors.New("no finding has this code")
	errReport       = errors.New("a report is HTML or Markdown")
	errPort         = errors.New("not a port")
	errNoWayOut     = errors.New("no root server could be reached from this machine")
	errNumber       = errors.New("not a whole number, or too large")
	errDecimal      = errors.New("not a number")
	errDuration     = errors.New("not a duration")
	errYesNo        = errors.New("neither true nor false")
	errList         = errors.New("not a list")
	errNoOption     = errors.New("there is no such option")
	errLeft         = errors.New("it would still be in the report, so nothing was written")
	errManyNames    = errors.New("more than a million names")
	errSpool        = errors.New("more than 2 GB from a stream that can be read only once")
	errNoCommand    = errors.New("there is no such command")
	errShell        = errors.New("no script for this shell")
	errNoValue      = errors.New("its value is missing")
	errNoRoot       = errors.New("no root server has an address of that family")
	errWord         = errors.New("neither a command, nor a name, an address or a mark")
	errNoMark       = errors.New("no mark has this number")
	errNothingYet   = errors.New("nothing was asked before it")
	errNotHere      = errors.New("it needs a terminal of its own")
	errChoice       = errors.New("it cannot be chosen")
	errNameFirst    = errors.New("it goes with --bare")
	errBadNames     = errors.New("no name in it")
	errSender       = errors.New("it is about a sender, and none is given")
	errHelo         = errors.New("without a mailbox the name of HELO counts, and none is given")
	errLists        = errors.New("neither a URL that begins with https:// nor a folder")
	errNoOwner      = errors.New("who holds it could not be learnt")
	errWritten      = errors.New("what is browsed cannot be written in that form")
	errNotHad       = errors.New("no exchange of this session has this number")
	errNoLine       = errors.New("no line of this session has this number and asks something")
	errNoText       = errors.New("there are no words to note")
	errQuote        = errors.New("a quotation is not closed")
	errSize         = errors.New("not a size")
	errRing         = errors.New("nothing says when one file is full")
	errNoFile       = errors.New("no file is written")
	errNoListen     = errors.New("nobody listens")
	errAnchor       = errors.New("it holds no DS or DNSKEY record")
	errAsOf         = errors.New("not a time")
	errIsAddress    = errors.New("it is an address")
	errWidth        = errors.New("a line of this length is a mistake")
	errLongList     = fmt.Errorf("more than %d names to look up together", mostListed)
	errHeardLab     = errors.New("nothing passes an interface in the lab")
	errStep         = errors.New("the demo has no such step")
	errSocket       = errors.New("neither unix:PATH nor tcp:ADDRESS:PORT")
	errSplit        = errors.New("neither a time that divides a day, nor a size of a megabyte or more")
	errSplitTo      = errors.New("it takes a folder to write to, after --to")
	errPacked       = errors.New("what is in such a file is packed by itself")
	errNoMetrics    = errors.New("it tells them to a monitor, which --metrics names")
	errMetrics      = errors.New("neither a port nor an address with one")
	errMirror       = errors.New("it is about some interfaces, and none is named")
)

// kinds say what is wrong with an option's value, by the kind of value that it takes.
var kinds = map[string]error{
	"int": errNumber, "uint16": errNumber, "uint32": errNumber, "uintSlice": errNumber, "float64": errDecimal,
	"duration": errDuration, "bool": errYesNo, "stringSlice": errList,
}

// optionError says in plain words why an option cannot be read.
func optionError(cmd *cobra.Command, err error) error {
	var value *pflag.InvalidValueError
	var missing *pflag.ValueRequiredError
	var unknown *pflag.NotExistError
	switch {
	case errors.As(err, &value) && kinds[value.GetFlag().Value.Type()] != nil:
		err = fmt.Errorf("--%s %q: %w", value.GetFlag().Name, shorten(value.GetValue()), kinds[value.GetFlag().Value.Type()])
	case errors.As(err, &missing):
		err = fmt.Errorf("--%s: %w", missing.GetFlag().Name, errNoValue)
	case errors.As(err, &unknown) && unknown.GetSpecifiedShortnames() != "":
		err = fmt.Errorf("-%s after %s: %w", shorten(unknown.GetSpecifiedName()), cmd.CommandPath(), errNoOption)
	case errors.As(err, &unknown):
		err = fmt.Errorf("--%s after %s: %w", shorten(unknown.GetSpecifiedName()), cmd.CommandPath(), errNoOption)
		if near := wording.Nearest(unknown.GetSpecifiedName(), optionNames(cmd)); near != "" {
			err = fmt.Errorf("%w; did you mean --%s?", err, near)
		}
	}
	return usage(err)
}

// errArguments says how a command is used.
type errArguments struct{ use string }

func (e errArguments) Error() string { return "usage: " + e.use }

// advice is what to try next, by what went wrong; the first match wins.
var advice = []struct {
	is   error
	next string
}{
	{wire.ErrNameLong, "a name has at most 255 bytes; this one cannot exist"},
	{wire.ErrLabelLong, "each label has at most 63 bytes; this name cannot exist"},
	{wire.ErrLabelEmpty, "there must be something between two dots"},
	{errMessage, "give it in hex, in base64, or as a file name; the DNS message only, without the packet around it"},
	{wire.ErrEscape, `write a special character as \X, or as \DDD with its value from 000 to 255`},
	{wire.ErrUnknownType, "give a record type such as A, AAAA, MX or TXT, or its number as TYPE65"},
	{tsig.ErrKeyFile, `the file has three lines of TOML: name = "KEY", algorithm = "hmac-sha256", secret = "BASE64"`},
	{tsig.ErrAlgorithm, "give hmac-sha256, or hmac-sha1, hmac-sha224, hmac-sha384 or hmac-sha512"},
	{exchange.ErrResolver, "for example --from 192.0.2.53, --from 192.0.2.53#5353 or --from tls://192.0.2.53"},
	{machine.ErrUnread, "name a resolver with --from ADDRESS"},
	{machine.ErrNoResolver, "name a resolver with --from ADDRESS"},
	{capture.ErrEmpty, "capture again; this file is empty"},
	{capture.ErrFormat, "give a file in pcap, pcapng, dnstap or C-DNS"},
	{serverlog.ErrContent, "give dnstap, or C-DNS of version 1"},
	{serverlog.ErrCut, "the records before that point were read; copy the file again if it should be longer"},
	{capture.ErrCut, "the packets before that point were read; copy the file again if it should be longer"},
	{capture.ErrDamaged, "the packets before the damage were read; copy the file again"},
	{delegation.ErrNoRoots, "give a master file with the NS records of the root and the addresses of their hosts"},
	{errNoWayOut, "query this network's own resolver with unquil ask, or open port 53 to the outside"},
	{errColour, "for example --color never"},
	{errSetting, "the settings are [ask] from, types, wait, attempts; [resolver.LABEL] at, place; [group] NAME = [...]"},
	{errNumber, "give a whole number in digits, such as 3"},
	{errDecimal, "give a number such as 2 or 0.5"},
	{errDuration, "give a time with its unit, such as 200ms, 2s or 1m30s"},
	{errYesNo, "leave the value out, or give true or false"},
	{errList, "separate the parts with commas, and quote whole parts only"},
	{zonecare.ErrLarge, "unquil transfer ZONE --from SERVER --against FILE compares zones of any size"},
	{errLeft, "this is a bug in unquil; leave that name out of --redact, or redact the report by hand"},
	{errManyNames, "split the list"},
	{exchange.ErrThisMachine, "close other programs or raise the limits of this machine (ulimit -n), and try again"},
	{errSpool, "save it to a file and decode that"},
	{errNoValue, "unquil COMMAND --help describes the option"},
	{errNoCommand, "unquil --help lists the commands"},
	{errShell, "give bash, fish, powershell or zsh"},
	{errIsAddress, "unquil reverse ADDRESS looks up its name, and unquil owner ADDRESS whose it is"},
	{errWidth, "give 40 to 1000 columns"},
	{errLongList, "split the list, or look them up one by one with unquil ask --names"},
	{data.ErrSaved, "give a file that --save or --json wrote"},
	{errHeardLab, "--keep FILE.pcapng has the packets that the run exchanged"},
	{errStep, fmt.Sprintf("give a number from 1 to %d", len(scenes))},
	{errSocket, "for example --from-server unix:/run/unquil.sock, and the same path in the settings of the server"},
	{errSplit, "for example --split 1h, --split 1GB or --split 1h,1GB"},
	{errSplitTo, "for example --to FOLDER --split 1h"},
	{errPacked, "leave out .gz or .zst"},
	{errNoMetrics, "add --metrics PORT"},
	{errMetrics, "for example --metrics 9053, which is a port of this machine, or --metrics 192.0.2.21:9053"},
	{errWord, "the word help lists what can be typed; ask NAME looks up a name that looks like a command"},
	{errNoMark, "the word marks lists them"},
	{errNothingYet, "type a name first"},
	{errNotHere, "run it outside the session"},
	{errChoice, "for example from office,isp or type mx,txt or over tcp or wait 1s; usual takes every choice back"},
	{errNameFirst, "add --bare"},
	{errBadNames, "correct them; all other names were looked up"},
	{errSender, "give the sender's address with --sender ADDRESS"},
	{errHelo, "give the name that the sender called itself by, with --helo NAME"},
	{errWritten, "give a name that ends in .pcapng, .csv, .html or .md"},
	{errNotHad, "answers name the numbers of their exchanges where something is to note; the first is 1"},
	{errNoLine, "the word lines lists them"},
	{errNoText, "for example note \"the caller sees the old shop\""},
	{errSize, "give a number of bytes, such as 500kB, 100MB or 2GB; the least is 64kB"},
	{errRing, "add --each 100MB, or --every 10m"},
	{errNoFile, "add --to FILE.pcapng"},
	{errNoListen, "add --listen"},
	{errAnchor, "give DS or DNSKEY records in master-file form, such as those of the root"},
	{errAsOf, "for example --as-of 2026-03-09T07:40:00Z"},
	{errMirror, "add --interface NAME"},
	{live.ErrInterface, "name one of these, or leave --interface out to listen at all of them"},
	{live.ErrUnsupported, "capture with a tool of that system, and run unquil decode on its file; with --lab there is something to listen to everywhere"},
	{errQuote, "put the same mark at its end, or type a backslash before one that stands for itself"},
	{casework.ErrNoCase, "give the file that --case wrote, or the name of a file that is not there yet"},
	{files.ErrOthers, "end the other session, and take the case up again"},
	{errNoOption, "unquil COMMAND --help lists its options"},
	{comparison.ErrExpected, "give a value of the type, as in a master file, and the type with --type"},
	{errWait, "give a time with its unit from 100ms to 1h, such as wait = \"2s\""},
	{errBounds, "give a time such as 2s (100ms to 1h), 1 to 20 attempts, a rate of at least 1, 1 to 1024 queries in flight, 1 to 1000 repeats, a speed above 0"},
	{errPart, "choose from answer, authority, additional, question, header, timing"},
	{errTogether, "leave one of them out"},
	{errPrefix, "for example 192.0.2.1, 192.0.2.0/24 or 2001:db8::/120"},
	{errWide, "give a smaller range, such as a /24 or a /112"},
	{errAddress, "for example 192.0.2.10"},
	{errTransport, "give udp, tcp, tls, https or quic"},
	{errServers, "give --servers all or --servers one"},
	{errWalkOver, "give --over udp or --over tcp"},
	{errTransferOver, "give --over tcp or --over tls"},
	{errView, "give overview, exchanges, names, servers, clients, episodes, walks, local-link or timeline"},
	{errSigned, "give --signed bogus, --signed unjudged, --signed fits or --signed secure"},
	{errOutcome, "unquil help outcomes lists them all"},
	{errFinding, "give a code from the overview, such as unanswered"},
	{errBetween, "for example --between 07:40:10,07:41:00"},
	{errExchange, "--view exchanges lists them with their numbers"},
	{errPacket, "packets are numbered from 1; the overview shows how many there are"},
	{conversation.ErrCondition, "for example --where 'took > 200ms and not outcome = no-name'; unquil help conditions explains all fields"},
	{errMachine, "leave it out, or give dead-end, gone, two-lines, detour or typed"},
	{errNotAsked, "unquil decode FILE --view names lists the names that were looked up"},
	{errCode, "unquil findings lists them all"},
	{errReport, "give a name that ends in .html or .md"},
	{errPort, "give a number from 1 to 65535"},
	{errFamily, "name a resolver of that family with --from"},
	{errPEM, "give a file with certificates in PEM"},
	{errNoAddress, "name the resolver by its address"},
	{files.ErrExists, "give another name, or --overwrite to replace it"},
	{files.ErrInput, "give another name: a file that is being read is never overwritten"},
	{files.ErrTwice, "give each output a name of its own"},
	{files.ErrFolder, "give the name of a file"},
	{files.ErrOutside, "put the included file beside the master file or below it, or write one master file without $INCLUDE"},
	{files.ErrNotFile, "give the name of a file"},
	{files.ErrNoFolder, "make the folder, or give another name"},
	{files.ErrDangling, "remove the link, or give another name"},
	{files.ErrKind, "give the name of a file, a device or a FIFO"},
	{files.ErrLarge, "check that this is the file you mean"},
	{fs.ErrNotExist, "check the name of the file"},
	{fs.ErrPermission, "ask for a copy that you may read"},
}

// advised is an error with what to try next, where that depends on more than what went wrong.
type advised struct {
	error
	next string
}

func (e advised) Unwrap() error { return e.error }

// tell writes an error the way a person reads it: what happened, and what to try.
func tell(w io.Writer, err error) {
	says, next := telling(err)
	fmt.Fprintf(w, "unquil: %s\n", says)
	if next != "" {
		fmt.Fprintf(w, "next: %s\n", next)
	}
}

// telling is what there is to say of an error, and what to try; "" where that is not known.
func telling(err error) (says, next string) {
	says = string(escape.Of(strings.ReplaceAll(err.Error(), "\n", "; ")))
	var own advised
	if errors.As(err, &own) {
		return says, string(escape.Of(own.next))
	}
	for _, a := range advice {
		if errors.Is(err, a.is) {
			return says, a.next
		}
	}
	switch {
	case errors.As(err, new(*zonefile.Error)):
		next = "correct that line of the master file"
	case errors.As(err, new(usageError)):
		next = "unquil --help lists the commands and their options"
	}
	return says, next
}
