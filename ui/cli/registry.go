package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/mail"
	"unquil/core/registry"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/ui/data"
	"unquil/ui/files"
)

// registryOptions are about asking registries.
type registryOptions struct {
	bootstrap  string // where the lists of registries are; "" means where the standard says
	owners     bool   // whose the addresses of an answer are
	noRegistry bool
}

// bootstrapFlag adds the option of where the lists are.
func (a *app) bootstrapFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.bootstrap, "bootstrap", "", "find registries by the lists (RFC 9224) at this `URL` or in this folder")
}

// ownersFlag adds the option that tells whose addresses are.
func (a *app) ownersFlag(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&a.owners, "owners", false, "then also say whose the addresses are: registries are told them")
	a.bootstrapFlag(cmd)
}

// registries are asked over the network of the run, in a session of their own: what is asked
// for their sake is no evidence. The error is that of the options.
func (a *app) registries(ctx context.Context) (*registry.Asker, error) {
	asker := &registry.Asker{Client: a.session.Client, Location: a.bootstrap}
	if asker.Location == "" {
		asker.Location = a.Registry.Bootstrap
	}
	switch where := asker.Location; {
	case where == "" && a.lab:
		asker.Location = lab.Lists
	case where == "" || strings.HasPrefix(where, "https://"):
		if at, err := url.Parse(where); err != nil || where != "" && at.Hostname() == "" {
			return nil, usage(fmt.Errorf("--bootstrap %q: %w", shorten(where), errLists))
		}
		asker.Own = where != ""
	case strings.Contains(where, "://"):
		return nil, usage(fmt.Errorf("--bootstrap %q: %w", shorten(where), registry.ErrScheme))
	default:
		asker.Own = true
		if info, err := os.Stat(where); err != nil || !info.IsDir() {
			return nil, usage(fmt.Errorf("--bootstrap %q: %w", shorten(where), errLists))
		}
		asker.Folder = func(file string) ([]byte, error) { return a.files.Read(filepath.Join(where, file), maxLists) }
	}
	if folder := a.cacheFolder(); !a.lab && folder != "" && asker.Folder == nil {
		asker.Shelf = shelf{folder}
	}
	servers, _, err := a.resolvers(ctx, nil)
	if err != nil {
		servers = nil // then the walk finds them
	}
	roots, err := a.rootServers()
	if err != nil {
		return nil, err
	}
	aside := &exchange.Session{Client: a.session.Client}
	asker.LookUp = func(ctx context.Context, host wire.Name) []netip.Addr {
		return addressesOf(ctx, aside, servers, roots, host)
	}
	return asker, nil
}

// maxLists is how long a file with a list of registries may be.
const maxLists = 4 << 20

// addressesOf are the addresses of a host by resolvers, or, where none of them has any, by a
// walk from the root.
func addressesOf(ctx context.Context, session *exchange.Session, servers []exchange.Server, roots []delegation.Server, host wire.Name) (all []netip.Addr) {
	asker := &mail.Asker{Session: session, Resolvers: servers}
	if len(servers) > 0 {
		all = asker.Addresses(ctx, host)
	}
	if len(all) == 0 && ctx.Err() == nil {
		walker := delegation.Walker{Session: session, Roots: roots, One: true}
		for _, t := range []wire.Type{wire.A, wire.AAAA} {
			all = append(all, wire.Addresses(walker.Walk(ctx, wire.Question{Name: host, Type: t, Class: wire.IN}).Records)...)
		}
	}
	return all
}

// now is the time that counts: in the lab, the lab's own.
func (a *app) now() time.Time {
	if a.simulation != nil {
		return a.simulation.Clock()
	}
	return time.Now()
}

// cacheFolder is where lists are kept between runs; "" for nowhere.
func (a *app) cacheFolder() string {
	folder := getenv(a.environ, "XDG_CACHE_HOME")
	if folder == "" {
		var err error
		if folder, err = os.UserCacheDir(); err != nil {
			return ""
		}
	}
	return filepath.Join(folder, "unquil", "registries")
}

// shelf keeps lists in a folder, a file each. What cannot be kept is fetched again.
type shelf struct{ folder string }

func (s shelf) path(key string) string {
	sum := sha256.Sum256([]byte(key))
	return filepath.Join(s.folder, hex.EncodeToString(sum[:8])+".json")
}

// Get reads a list.
func (s shelf) Get(key string) (k registry.Kept, ok bool) {
	text, err := (&files.Files{}).Read(s.path(key), 2*maxLists)
	return k, err == nil && json.Unmarshal(text, &k) == nil
}

// Put keeps a list.
func (s shelf) Put(key string, k registry.Kept) {
	if text, err := json.Marshal(k); err == nil {
		files.Keep(s.path(key), text)
	}
}

// mostOwners is of how many addresses of a list of names it is told whose they are.
const mostOwners = 64

// toldOwners are whose some addresses are.
type toldOwners struct {
	addresses []netip.Addr
	known     map[netip.Addr]*registry.Network
	why       map[netip.Addr]error
	notes     []string
}

// whose asks whose addresses are, where that is wanted.
func (a *app) whose(ctx context.Context, addresses []netip.Addr) (t toldOwners, err error) {
	if !a.owners {
		return t, nil
	}
	asker, err := a.registries(ctx)
	if err != nil {
		return t, err
	}
	for _, address := range addresses {
		if address = address.Unmap().WithZone(""); !slices.Contains(t.addresses, address) {
			t.addresses = append(t.addresses, address)
		}
	}
	t.known, t.why = asker.Networks(ctx, t.addresses)
	t.notes = asker.Notes()
	return t, nil
}

// data is the JSON of it.
func (t *toldOwners) data() (all []data.AddressOwner) {
	for _, address := range t.addresses {
		one := data.AddressOwner{Address: address.String()}
		if n := t.known[address]; n != nil {
			of := data.OfNetwork(n)
			one.Network = &of
		} else if err := t.why[address]; err != nil {
			one.Problem = err.Error()
		}
		all = append(all, one)
	}
	return all
}

// showOwners asks whose addresses are and draws it, after the answer that has them.
func (a *app) showOwners(ctx context.Context, addresses []netip.Addr) error {
	if !a.owners || a.bare {
		return nil
	}
	t, err := a.whose(ctx, addresses)
	if err != nil {
		return err
	}
	view := a.view()
	view.AddressOwners(t.addresses, t.known, t.why, t.notes)
	return view.Err()
}

// ownersInto adds whose addresses are to a document, where that is wanted.
func (a *app) ownersInto(d *data.Document, addresses []netip.Addr) error {
	t, err := a.whose(a.ctx, addresses)
	d.Owners = t.data()
	return err
}
