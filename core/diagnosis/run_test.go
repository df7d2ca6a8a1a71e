package diagnosis_test

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/labtest"
)

// evidenceOf is the evidence of a run about a name, asked for as on a machine of the lab.
func evidenceOf(t *testing.T, name string) []byte {
	l, err := lab.New(lab.Options{InMemory: true})
	require.NoError(t, err)
	defer l.Close()
	client := l.Enter(&exchange.Client{Options: exchange.Options{Wait: 200 * time.Millisecond, Attempts: 1}})
	defer client.Close()
	prober := probe.Prober{Session: &exchange.Session{Client: client}, Roots: delegation.Roots(l.Hints())}
	setup, err := machine.Read(lab.Machine(""))
	run := diagnosis.Run{Cases: []diagnosis.Case{{Name: wire.MustParseName(name), Types: []wire.Type{wire.A}, Resolvers: []exchange.Server{labtest.Resolver(t, l, "office")}, Setup: &setup, SetupErr: err}}}
	run.Verdicts(t.Context(), prober)
	var packets bytes.Buffer
	writer, err := evidence.New(&packets)
	require.NoError(t, err)
	require.NoError(t, writer.AddAll(prober.Session.Exchanges(), run.Given()))
	return packets.Bytes()
}

// Whatever becomes of evidence, judging it ends, and what it says can be shown.
func FuzzRun(f *testing.F) {
	f.Add([]byte(nil), uint16(0))
	f.Add([]byte(`{"Run":{}}`), uint16(200))
	var file []byte
	f.Fuzz(func(t *testing.T, patch []byte, at uint16) {
		if file == nil {
			file = evidenceOf(t, "status.lifts.hollowtarn.example")
		}
		changed := bytes.Clone(file)
		copy(changed[min(int(at), len(file)):], patch)
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		inquest := diagnosis.Inquest{}
		verdicts, _, err := inquest.Of(ctx, kept(changed))
		require.NoError(t, ctx.Err())
		if err == nil {
			for i := range verdicts {
				require.NotEmpty(t, verdicts[i].Text)
			}
		}
	})
}
