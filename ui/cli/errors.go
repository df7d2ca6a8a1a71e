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
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/machine"
	"unquil/core/tsig"
	"unquil/core/wire"
	"unquil/core/zonecare"
	"unquil/core/zonefile"
	"unquil/ui/files"
)

var (
	errColour       = errors.New("not one of auto, always, never")
	errBounds       = errors.New("a number or time is out of bounds")
	errPart         = errors.New("not a part of an answer")
	errTogether     = errors.New("not both at once")
	errPrefix       = errors.New("not an address or a range of addresses")
	errAddress      = errors.New("not an address")
	errTransport    = errors.New("not a transport")
	errFamily       = errors.New("none of the resolvers has an address of that family")
	errPEM          = errors.New("no certificate in it")
	errNoAddress    = errors.New("it has no address")
	errSetting      = errors.New("no such setting")
	errWide         = errors.New("more than 65536 addresses")
	errMessage      = errors.New("neither hex, nor base64, nor a file")
	errServers      = errors.New("neither all nor one")
	errWalkOver     = errors.New("zones' own servers are asked over udp or tcp")
	errTransferOver = errors.New("zones are transferred over tcp or tls")
	errView         = errors.New("not a view")
	errFinding      = errors.New("not a finding")
	errBetween      = errors.New("not two times")
	errExchange     = errors.New("no exchange of those chosen has this number")
	errPacket       = errors.New("the capture has no packet with this number")
	errMachine      = errors.New("the lab has no such machine")
	errNotAsked     = errors.New("nobody asked for it in this capture")
	errCode         = errors.New("no finding has this code")
	errReport       = errors.New("a report is a page or a text")
	errPort         = errors.New("not a port")
	errNoWayOut     = errors.New("no root server could be reached from this machine")
	errNumber       = errors.New("not a whole number, or too large a one")
	errDecimal      = errors.New("not a number")
	errDuration     = errors.New("not a length of time")
	errYesNo        = errors.New("neither true nor false")
	errList         = errors.New("not a list")
	errNoOption     = errors.New("there is no such option")
	errLeft         = errors.New("it is still in the report: nothing was written")
	errManyNames    = errors.New("more than a million names")
	errSpool        = errors.New("more than 2 GB come from where they can be read but once")
	errNoValue      = errors.New("its value is missing")
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
	}
	return usage(err)
}

// errArguments says how a command is used.
type errArguments struct{ use string }

func (e errArguments) Error() string { return "it is used as " + e.use }

// advice is what to try next, by what went wrong; the first match wins.
var advice = []struct {
	is   error
	next string
}{
	{wire.ErrNameLong, "give a name of at most 255 bytes; this one cannot exist"},
	{wire.ErrLabelLong, "give parts of at most 63 bytes between the dots; this name cannot exist"},
	{wire.ErrLabelEmpty, "leave no part between two dots empty"},
	{errMessage, "give it in hex, in base64, or as the name of a file that holds it; the DNS message alone, without the packet around it"},
	{wire.ErrEscape, `write a special character as \X, or as \DDD with its value from 000 to 255`},
	{wire.ErrUnknownType, "give a record type such as A, AAAA, MX or TXT, or its number as TYPE65"},
	{tsig.ErrKeyFile, `the file has three lines of TOML: name = "KEY", algorithm = "hmac-sha256", secret = "BASE64"`},
	{tsig.ErrAlgorithm, "give hmac-sha256, or hmac-sha1, hmac-sha224, hmac-sha384 or hmac-sha512"},
	{exchange.ErrResolver, "for example --from 192.0.2.53, --from 192.0.2.53#5353 or --from tls://192.0.2.53"},
	{machine.ErrNoResolver, "name a resolver with --from ADDRESS"},
	{capture.ErrEmpty, "capture again; nothing was written to this file"},
	{capture.ErrFormat, "give a pcap or pcapng file"},
	{capture.ErrCut, "the packets before the cut were read; copy the file again if it should be longer"},
	{capture.ErrDamaged, "the packets before the damage were read; copy the file again"},
	{delegation.ErrNoRoots, "give a master file with the NS records of the root and the addresses of their hosts"},
	{errNoWayOut, "ask this network's own resolver with unquil ask, or let port 53 out"},
	{errColour, "for example --color never"},
	{errSetting, "the settings are [ask] from, wait, tries; [resolver.LABEL] at, place; [group] NAME = [...]"},
	{errNumber, "give a whole number in digits, such as 3"},
	{errDecimal, "give a number such as 2 or 0.5"},
	{errDuration, "give a time with its unit, such as 200ms, 2s or 1m30s"},
	{errYesNo, "leave the value out, or give true or false"},
	{errList, "separate with commas, and put quotes around all of a part or nowhere"},
	{zonecare.ErrLarge, "unquil transfer ZONE --from SERVER --against FILE holds zones of any size against each other"},
	{errLeft, "redact without it, or hand the report over by other means; this is a fault of the program"},
	{errManyNames, "split the list"},
	{exchange.ErrThisMachine, "close what you do not need or raise the limits of this machine (ulimit -n), and ask again"},
	{errSpool, "write them to a file, and decode that"},
	{errNoValue, "unquil COMMAND --help says what the option takes"},
	{errNoOption, "unquil COMMAND --help lists its options"},
	{errBounds, "give times such as 2s, at most 1h, from 1 to 20 tries, a rate from 1 on, from 1 to 1000 repeats, and a speed over 0"},
	{errPart, "give some of answer, authority, additional, question, header, timing"},
	{errTogether, "leave one of them out"},
	{errPrefix, "for example 192.0.2.1, 192.0.2.0/24 or 2001:db8::/120"},
	{errWide, "give a smaller range, such as a /24 or a /112"},
	{errAddress, "for example 192.0.2.10"},
	{errTransport, "give udp, tcp, tls, https or quic"},
	{errServers, "give --servers all or --servers one"},
	{errWalkOver, "give --over udp or --over tcp"},
	{errTransferOver, "give --over tcp or --over tls"},
	{errView, "give overview, exchanges, names, servers, clients, episodes, walks, local-link or timeline"},
	{errFinding, "give a code as the overview shows it, such as unanswered"},
	{errBetween, "for example --between 07:40:10,07:41:00"},
	{errExchange, "--view exchanges lists them with their numbers"},
	{errPacket, "packets count from 1; the overview says how many there are"},
	{conversation.ErrCondition, "for example --where 'outcome == \"no-name\" && took > 0.2'; the fields are number, time, client, server, port, name, type, outcome, rcode, took, waited, tries, id, transport, size, authority, values and findings"},
	{errMachine, "give nothing, dead-end, gone, two-lines, detour or typed"},
	{errNotAsked, "unquil decode FILE --view names lists the names that were"},
	{errCode, "unquil findings lists them all"},
	{errReport, "give a name that ends in .html or .md"},
	{errPort, "give a number from 1 to 65535"},
	{errFamily, "name a resolver of that family with --from"},
	{errPEM, "give a file with certificates in PEM"},
	{errNoAddress, "name the resolver by its address"},
	{files.ErrExists, "give another name, or --overwrite to replace it"},
	{files.ErrInput, "give another name: a file that is being read is never written over"},
	{files.ErrTwice, "give each output a name of its own"},
	{files.ErrFolder, "give the name of a file"},
	{files.ErrNoFolder, "make the folder, or give another name"},
	{files.ErrDangling, "remove the link, or give another name"},
	{files.ErrKind, "give the name of a file, a device or a FIFO"},
	{files.ErrLarge, "check that this is the file you mean"},
	{fs.ErrNotExist, "check the name of the file"},
	{fs.ErrPermission, "ask for a copy that you may read"},
}

// tell writes an error the way a person reads it: what happened, and what to try.
func tell(w io.Writer, err error) {
	fmt.Fprintf(w, "unquil: %s\n", escape.Of(strings.ReplaceAll(err.Error(), "\n", "; ")))
	for _, a := range advice {
		if errors.Is(err, a.is) {
			fmt.Fprintf(w, "next: %s\n", a.next)
			return
		}
	}
	if errors.As(err, new(*zonefile.Error)) {
		fmt.Fprintln(w, "next: mend that line of the master file")
		return
	}
	if errors.As(err, new(usageError)) {
		fmt.Fprintln(w, "next: unquil --help lists the commands and their options")
	}
}
