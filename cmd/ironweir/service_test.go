package main

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/client"
	"ironweir/core/sim"
	"ironweir/service"
)

// served is a service in a process of its own, started by the start command.
type served struct {
	*testing.T
	url  string
	link string
	home string
	data string
}

// serve starts a service with the demo on a port of its own.
func serve(t *testing.T, flags ...string) *served {
	t.Helper()
	dir, err := os.MkdirTemp("", "ironweir-serve-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	return serveIn(t, dir, flags...)
}

// serveIn starts a service with its data below a folder, which is removed at the
// end.
func serveIn(t *testing.T, dir string, flags ...string) *served {
	t.Helper()
	program := filepath.Join(t.TempDir(), "ironweir")
	built, err := exec.Command("go", "build", "-o", program, ".").CombinedOutput()
	require.NoError(t, err, "%s", built)
	var out, errOut lockedBuffer
	cmd := exec.Command(
		program,
		append([]string{"serve", "-demo", "-listen", "127.0.0.1:0", "-data", filepath.Join(dir, "data")}, flags...)...)
	cmd.Stdout, cmd.Stderr = &out, &errOut
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
		os.RemoveAll(dir)
	})
	require.Eventually(
		t,
		func() bool { return strings.Contains(out.String(), "Ctrl-C") },
		patience,
		50*time.Millisecond,
		"%s",
		errOut.String(),
	)
	s := &served{T: t, home: t.TempDir(), data: filepath.Join(dir, "data")}
	t.Setenv("XDG_CONFIG_HOME", s.home)
	s.url = regexp.MustCompile(`https?://\S+`).FindString(out.String())
	s.link = regexp.MustCompile(`https?://\S+#\S+`).FindString(out.String())
	return s
}

// run runs the program and gives what it prints.
func (s *served) run(code int, args ...string) (out, errOut string) {
	s.Helper()
	var o, e bytes.Buffer
	got := Main(context.Background(), args, strings.NewReader(""), &o, &e)
	require.Equal(s, code, got, "%v: %s", args, e.String())
	return o.String(), e.String()
}

// TestTheServiceDoesTheSameWork: every command prints the same bytes, ends with
// the same code and leaves the same files, whether the service does it or not.
func TestTheServiceDoesTheSameWork(t *testing.T) {
	s := serve(t)
	s.run(exitUsage, "check", "../../demo/kittiwake.yaml", "-server", s.url) // not logged in
	s.run(0, "login", "-server", s.url, "-link", s.link)
	here, there := t.TempDir(), t.TempDir()
	small := "ironweir: topology/1\nname: small\nnodes: {q: {kind: queue}}\n" // on standard input
	draft, model, friday := "../../demo/kittiwake-draft.yaml", "../../demo/kittiwake.yaml", "../../demo/friday-evening.yaml"
	for _, args := range [][]string{
		{"check", draft}, {"check", draft, "-format", "sarif"}, {"check", model, "-format", "json"}, {"check",
			"no-such.yaml"}, {"check", model, "-no-such-flag"},
		{"explain", "IW101"}, {"paths", model, "manifest-drop", "mail"}, {"schema", "topology"},
		{"follow", model, "-node", "manifest-drop", "-key", "inbound/7.csv"},
		{"run", draft, "-scenario", friday, "-format", "markdown"}, {"run", model, "-scenario", friday, "-sweep", "../../demo/sweeps/clearing.yaml"},
		{"run", model, "-scenario", friday, "-variant", "../../demo/variants/more-clearing.yaml", "-beside", "-format", "csv"},
		{"diff", draft, model}, {"draw", model, "-format", "mermaid"}, {"draw", model, "-format", "svg", "-out",
			"DIR/weir.svg"},
		{"fires", "-cron", "30 4 * * *", "-zone", "Europe/Lisbon", "-from", "2026-03-28T00:00:00Z"}, {"sample", model, "manifest-drop"},
		{"convert", model, "-to", "asyncapi"}, {"convert", "../../demo/import/harbour-lamps.asyncapi.yaml", "-from", "asyncapi", "-to", "model"},
		{"learn", "../../demo/import/quay-traces.jsonl", "-out", "DIR/learnt"}, {"fmt", model, "-check"}, {"check", "-"}, {"learn", "-"},
		{"size", model, "-scenario", "../../demo/quiet-tuesday.yaml", "-vary", "nodes.clear-consignment.concurrency=1..8"},
		{"run", model, "-scenario", "../../demo/quiet-tuesday.yaml", "-replications", "3", "-out", "DIR/one"}, {"run", model, "-scenario", "../../demo/quiet-tuesday.yaml", "-replications", "3", "-set", "nodes.clear-consignment.concurrency=20", "-out", "DIR/two"},
		{"compare", "DIR/one/result.json", "DIR/two/result.json"}, {"report", model, "-scenario", "../../demo/quiet-tuesday.yaml", "-out", "DIR/report.html"},
	} {
		in := func(dir string) []string {
			out := []string{}
			for _, a := range args {
				out = append(out, strings.ReplaceAll(a, "DIR", dir))
			}
			return out
		}
		var wantOut, wantErr, gotOut, gotErr bytes.Buffer
		want := Main(context.Background(), in(here), strings.NewReader(small), &wantOut, &wantErr)
		got := Main(
			context.Background(),
			append(in(there), "-server", s.url),
			strings.NewReader(small),
			&gotOut,
			&gotErr,
		)
		require.Equal(
			t,
			strings.ReplaceAll(wantOut.String(), here, ""),
			strings.ReplaceAll(gotOut.String(), there, ""),
			"%v",
			args,
		)
		require.Equal(
			t,
			strings.ReplaceAll(wantErr.String(), here, ""),
			strings.ReplaceAll(gotErr.String(), there, ""),
			"%v",
			args,
		)
		require.Equal(t, want, got, "%v", args)
	}
	for _, name := range []string{"weir.svg", "learnt/model.yaml", "learnt/scenario.yaml", "report.html", "one/result.json", "two/result.json"} {
		want, err := os.ReadFile(filepath.Join(here, name))
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(there, name))
		require.NoError(t, err, name)
		require.Equal(t, string(want), string(got), name)
	}
	_, e := s.run(exitUsage, "run", model, "-export", "http://127.0.0.1:4318", "-server", s.url)
	require.Contains(t, e, "the service sends nothing to other machines")
	_, e = s.run(exitUnreachable, "check", model, "-server", "http://127.0.0.1:1")
	require.Contains(t, e, "could not be reached")
}

// TestModelsArePushedAndPulled, as one does with a service from a terminal.
func TestModelsArePushedAndPulled(t *testing.T) {
	s := serve(t)
	out, _ := s.run(0, "login", "-server", s.url, "-link", s.link)
	require.Contains(t, out, "as admin: admin of workspace main")
	_, e := s.run(exitUsage, "login", "-server", s.url, "-link", s.link)
	require.Contains(t, e, "has been used")
	info, err := os.Stat(filepath.Join(s.home, "ironweir", "servers.json"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	out, _ = s.run(0, "models")
	require.Contains(t, out, "kittiwake-draft")
	file := filepath.Join(t.TempDir(), "lamps.yaml")
	text := "ironweir: topology/1\nname: lamps\nnodes:\n  q: {kind: queue, rate: 1/m, links: {f: {}}}\n  f: {kind: function}\n"
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	scenario := filepath.Join(t.TempDir(), "calm.yaml")
	require.NoError(
		t,
		os.WriteFile(
			scenario,
			[]byte("ironweir: scenario/1\nlength: 1h\nexpect: {none-lost: run.ledger.lost.total == 0}\n"),
			0o644,
		),
	)
	out, _ = s.run(0, "push", file, scenario, "-note", "the first lamps")
	require.Contains(t, out, "lamps made in workspace main")
	require.Contains(t, out, "scenario calm saved")
	out, _ = s.run(0, "push", file)
	require.Contains(t, out, "as it is: revision 1")
	require.NoError(t, os.WriteFile(file, []byte(text+"# more\n"), 0o644))
	s.run(0, "push", file, "-note", "more")
	_, e = s.run(exitUsage, "push", file, "-on", "1")
	require.Contains(t, e, "the latest revision is 2, by admin")
	out, _ = s.run(0, "history", "lamps")
	require.Contains(t, out, "the first lamps")
	out, _ = s.run(0, "pull", "lamps", "-revision", "1")
	require.Equal(t, text, out)
	dir := filepath.Join(t.TempDir(), "back")
	s.run(0, "pull", "lamps", "-out", dir)
	require.FileExists(t, filepath.Join(dir, "calm.yaml"))
	_, e = s.run(exitUsage, "pull", "no-such")
	require.Contains(t, e, "there is no model no-such")

	out, _ = s.run(0, "runs", "start", "lamps", "calm")
	require.Contains(t, out, "none-lost")
	out, _ = s.run(0, "runs")
	require.Contains(t, out, "done       lamps, revision 2, calm, expectations hold")
	again, _ := s.run(0, "runs", "show", "1")
	require.Contains(t, again, "none-lost")

	out, _ = s.run(0, "user", "add", "skerry", "-role", "viewer")
	link := regexp.MustCompile(`http://\S+`).FindString(out)
	require.NotEmpty(t, link)
	out, _ = s.run(0, "user")
	require.Contains(t, out, "skerry")
	out, _ = s.run(0, "login", "-server", s.url, "-link", link)
	require.Contains(t, out, "as skerry: viewer of workspace main")
	_, e = s.run(exitUsage, "push", file, "-name", "other")
	require.Contains(t, e, "needs the role editor")
	out, _ = s.run(0, "token")
	require.Contains(t, out, "ironweir login on")
	id := strings.Fields(out)[0]
	s.run(0, "token", "revoke", id)
	_, e = s.run(exitUsage, "models")
	require.Contains(t, e, "ironweir login")
}

// TestServesByTLS: with a certificate, cookies stay on HTTPS; beyond loopback it
// refuses to listen without somebody who administers it.
func TestServesByTLS(t *testing.T) {
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().Add(time.Hour),
		IPAddresses:           []net.IP{net.IPv4(127, 0, 0, 1)},
		IsCA:                  true,
		BasicConstraintsValid: true,
	}
	made, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	cert, private := filepath.Join(dir, "weir.crt"), filepath.Join(dir, "weir.key")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made}), 0o644))
	require.NoError(t, os.WriteFile(private, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))

	s := serve(t, "-cert", cert, "-key", private)
	require.True(t, strings.HasPrefix(s.link, "https://"), s.link)
	known := x509.NewCertPool()
	parsed, err := x509.ParseCertificate(made)
	require.NoError(t, err)
	known.AddCert(parsed)
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: known}}}
	_, link, _ := strings.Cut(s.link, "#")
	answer, err := web.Post(s.url+"/api/v1/session", "application/json", strings.NewReader(`{"secret": "`+link+`"}`))
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)
	cookie := answer.Header.Get("Set-Cookie")
	require.Contains(t, cookie, "Secure")
	require.True(t, strings.HasPrefix(cookie, "__Host-ironweir_session="), "it is this host's alone")
	require.NotEmpty(t, answer.Header.Get("Strict-Transport-Security"))
	req, err := http.NewRequest("GET", s.url+"/api/v1/session", nil)
	require.NoError(t, err)
	name, value, _ := strings.Cut(strings.SplitN(cookie, ";", 2)[0], "=")
	req.AddCookie(&http.Cookie{Name: name, Value: value})
	answer, err = web.Do(req)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)

	var out, errOut bytes.Buffer
	data := filepath.Join(filepath.Dir(dir), "fresh")
	require.NoError(t, os.MkdirAll(data, 0o755))
	for parent := data; parent != "/" && parent != os.TempDir(); parent = filepath.Dir(parent) {
		os.Chmod(parent, 0o755) // the database's user must be able to enter it
	}
	code := Main(
		context.Background(),
		[]string{"serve", "-listen", "0.0.0.0:0", "-cert", cert, "-key", private, "-data", data},
		nil,
		&out,
		&errOut,
	)
	require.Equal(t, exitUsage, code, errOut.String())
	require.Contains(t, errOut.String(), "needs somebody who administers it")
}

// TestAFirstStartInAContainer: with a password in a file the service listens beyond loopback at
// once; the file counts as long as nobody administers it.
func TestAFirstStartInAContainer(t *testing.T) {
	dir, err := os.MkdirTemp("", "ironweir-serve-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	file := filepath.Join(t.TempDir(), "admin-password")
	require.NoError(t, os.WriteFile(file, []byte("kelp and mooring lines\n"), 0o600))
	t.Setenv("IRONWEIR_ADMIN_PASSWORD_FILE", file)
	s := serveIn(t, dir, "-listen", "0.0.0.0:0", "-behind-proxy")
	require.Empty(t, s.link, "nobody sees it")
	port := s.url[strings.LastIndex(s.url, ":")+1:]
	signIn := func(password string) int {
		answer, err := http.Post("http://127.0.0.1:"+port+"/api/v1/session", "application/json",
			strings.NewReader(fmt.Sprintf(`{"name": "admin", "password": %q}`, password)))
		require.NoError(t, err)
		answer.Body.Close()
		return answer.StatusCode
	}
	require.Equal(t, 401, signIn("another password"))
	require.Equal(t, 200, signIn("kelp and mooring lines"))

	require.NoError(t, os.WriteFile(file, []byte("password1234"), 0o600))
	var out, errOut bytes.Buffer
	fresh := filepath.Join(dir, "fresh")
	require.NoError(t, os.MkdirAll(fresh, 0o755))
	code := Main(context.Background(), []string{"serve", "-listen", "127.0.0.1:0", "-data", fresh}, nil, &out, &errOut)
	require.Equal(t, exitUsage, code)
	require.Contains(t, errOut.String(), "the password is a common one")
}

// TestItsOwnDatabaseIsStartedAgain when it was killed, and nothing is lost.
func TestItsOwnDatabaseIsStartedAgain(t *testing.T) {
	s := serve(t)
	s.run(0, "login", "-server", s.url, "-link", s.link)
	before, _ := s.run(0, "models")
	text, err := os.ReadFile(filepath.Join(s.data, "postgresql", "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool {
		var out, errOut bytes.Buffer
		return Main(context.Background(), []string{"models"}, nil, &out, &errOut) == exitUnreachable
	}, patience, 20*time.Millisecond, "while it is away")
	require.Eventually(t, func() bool {
		var out, errOut bytes.Buffer
		return Main(context.Background(), []string{"models"}, nil, &out, &errOut) == 0 && out.String() == before
	}, patience, 200*time.Millisecond)
}

// TestAFullDiskLosesNothing: on a disk of its own that fills up, writes are refused
// while nothing fits; once there is room again, all that was accepted is there, and
// writes go on.
func TestAFullDiskLosesNothing(t *testing.T) {
	dir, err := os.MkdirTemp("", "ironweir-full-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	disk := filepath.Join(dir, "data")
	require.NoError(t, os.Mkdir(disk, 0o755))
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=160m,mode=755"); err != nil {
		os.RemoveAll(dir)
		t.Skip("this test needs the right to mount a disk of its own:", err)
	}
	t.Cleanup(func() { syscall.Unmount(disk, syscall.MNT_DETACH); os.RemoveAll(dir) })
	s := serveIn(t, dir)
	s.run(0, "login", "-server", s.url, "-link", s.link)
	push := func(n int) int {
		var out, errOut bytes.Buffer
		text := fmt.Sprintf(
			"ironweir: topology/1\nname: lamps\nnodes: {q: {kind: queue}}\n# %d %s\n",
			n,
			strings.Repeat("x", 2<<20),
		)
		file := filepath.Join(t.TempDir(), "lamps.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		return Main(context.Background(), []string{"push", file, "-note", fmt.Sprint(n)}, nil, &out, &errOut)
	}
	require.Zero(t, push(0))
	filler := filepath.Join(disk, "filler")
	f, err := os.Create(filler)
	require.NoError(t, err)
	for block := make([]byte, 1<<20); ; {
		if _, err := f.Write(block); err != nil {
			break // it is full
		}
	}
	f.Close()
	accepted, refused := 1, false
	for n := 1; n < 60 && !refused; n++ {
		switch push(n) {
		case 0:
			accepted++
		case exitUnreachable:
			refused = true
		default:
			require.Fail(t, "a full disk is no fault of the user's")
		}
	}
	require.True(t, refused, "with nothing left, a write is refused")
	require.NoError(t, os.Remove(filler))
	require.Eventually(
		t,
		func() bool { return push(99) == 0 },
		patience,
		500*time.Millisecond,
		"it goes on by itself",
	)
	out, _ := s.run(0, "history", "lamps")
	require.GreaterOrEqual(t, strings.Count(out, "\n"), accepted+1, "everything that was accepted is there")
}

// TestADataDirectoryThatCannotBeWritten is named, with the way out.
func TestADataDirectoryThatCannotBeWritten(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_RDONLY, "size=1m"); err != nil {
		t.Skip("this test needs the right to mount a disk of its own:", err)
	}
	t.Cleanup(func() { syscall.Unmount(dir, syscall.MNT_DETACH) })
	var out, errOut bytes.Buffer
	require.Equal(
		t,
		exitUnreachable,
		Main(context.Background(), []string{"serve", "-listen", "127.0.0.1:0", "-data", dir}, nil, &out, &errOut),
	)
	require.Contains(t, errOut.String(), "the data directory cannot be written")
	require.Contains(t, errOut.String(), "read-only")
}

// TestARehearsalByTheClient: started, watched, interfered with and ended by a
// program of somebody's own.
func TestARehearsalByTheClient(t *testing.T) {
	s := serve(t)
	s.run(0, "login", "-server", s.url, "-link", s.link)
	api, err := connect(s.url)
	require.NoError(t, err)
	ctx := context.Background()
	r, err := api.StartRehearsal(ctx, "kittiwake", "friday-evening", 600)
	require.NoError(t, err)
	var last client.RehearsalState
	watched := make(chan error)
	seen := make(chan struct{}, 1000)
	go func() {
		watched <- api.WatchRehearsal(ctx, r.ID, func(s client.RehearsalState) { last = s; seen <- struct{}{} })
	}()
	for range 3 {
		<-seen
	}
	require.NoError(t, api.Interfere(ctx, r.ID, map[string]any{"node": "goods-registry", "fails": "100%"}))
	require.NoError(t, api.Heal(ctx, r.ID, "goods-registry"))
	require.ErrorContains(t, api.Interfere(ctx, r.ID, map[string]any{"node": "goods-registri"}), "did you mean")
	r, err = api.Rehearsal(ctx, r.ID)
	require.NoError(t, err)
	require.Equal(t, "friday-evening", r.Scenario)
	require.NoError(t, api.EndRehearsal(ctx, r.ID))
	require.NoError(t, <-watched, "it is told of the end")
	require.Positive(t, last.Now)
	_, err = api.Rehearsal(ctx, r.ID)
	require.ErrorContains(t, err, "no rehearsal")
}

// TestEveryFlagIsReviewed walks the flags of all commands that a service does: each is
// known to reach no further than the files that are sent, or is refused there.
func TestEveryFlagIsReviewed(t *testing.T) {
	harmless := strings.Fields(
		"rates accept around beside change changes check code count cron cron-fields data dead-letter drift dry-run env event event-format expect expect-same explain fail fail-on file findings fix format from into journey key latency length limit look map match max-events max-memory max-time name node of out owner plan points replications require say scenario seed sensitivity series set since source sunday sweep tag template to traffic trajectories type v variant vary verify where verify-time width with witness workers write within words zone down add link rename remove server",
	)
	for _, cmd := range fileCommands() {
		for _, f := range cmd.flagSet() {
			_, local := localFlags[f.Name]
			require.True(
				t,
				local || slices.Contains(harmless, f.Name),
				"-%s of %s: say here that it neither sends nor writes anywhere but to files, or refuse it in localFlags",
				f.Name,
				cmd.name,
			)
			if !local {
				continue
			}
			args := []string{"../../demo/kittiwake.yaml", "-node", "manifest-drop", "-" + f.Name}
			if b, ok := f.Value.(interface{ IsBoolFlag() bool }); !ok || !b.IsBoolFlag() {
				args = append(args, "http://127.0.0.1:9")
			}
			if cmd.name != "follow" {
				args = append(args[:1:1], args[3:]...)
			}
			got := doSent(context.Background(), cmd.name, service.Command{Args: args}, sim.Limits{})
			require.Equal(t, exitUsage, got.Code)
			require.Contains(t, string(got.Err), "-"+f.Name+" does not go with -server", "%s", cmd.name)
		}
	}
}

// TestAServiceIsNotBelieved: what asks for a file that no argument names is sent nothing,
// and what returns one writes nothing.
func TestAServiceIsNotBelieved(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	require.NoError(t, os.MkdirAll("models/events", 0o755))
	require.NoError(
		t,
		os.WriteFile("models/m.yaml", []byte("ironweir: topology/1\nname: m\nnodes: {q: {kind: queue}}\n"), 0o644),
	)
	require.NoError(t, os.WriteFile("models/events/one.json", []byte("{}"), 0o644))
	require.NoError(t, os.WriteFile("secret.txt", []byte("hidden"), 0o600))
	require.NoError(t, os.Symlink("../secret.txt", "models/innocent.yaml"))
	var asked []service.Command
	answer := service.Outcome{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		var c service.Command
		require.NoError(t, json.NewDecoder(req.Body).Decode(&c))
		asked = append(asked, c)
		out := answer
		if len(c.Files)+len(c.Absent) > 0 {
			out.Wants = nil
		}
		w.Header().Set("Content-Type", "application/json")
		require.NoError(t, json.NewEncoder(w).Encode(out))
	}))
	t.Cleanup(server.Close)
	t.Setenv("IRONWEIR_TOKEN", "weir_x")
	do := func(args ...string) (int, string) {
		asked = nil
		var out, errOut bytes.Buffer
		code := Main(context.Background(), append(args, "-server", server.URL), strings.NewReader(""), &out, &errOut)
		return code, errOut.String()
	}
	for _, name := range []string{"secret.txt", "/etc/passwd", "models/../secret.txt", "models/innocent.yaml", dir + "/secret.txt", "models/.env"} {
		answer = service.Outcome{Wants: []string{name}}
		code, said := do("check", "models/m.yaml")
		require.Equal(t, exitUsage, code, name)
		require.Contains(t, said, "which no argument names", name)
		require.Len(t, asked, 1)
		require.Empty(t, asked[0].Files)
	}
	answer = service.Outcome{Wants: []string{"models/m.yaml", "models/events/one.json"}}
	code, said := do("check", "models/m.yaml")
	require.Equal(t, 0, code, said)
	require.Len(t, asked[1].Files, 2)
	for _, name := range []string{"secret.txt", ".bashrc", "out/../secret.txt", "models/new.yaml"} {
		answer = service.Outcome{Files: map[string][]byte{name: []byte("taken over")}}
		code, said := do("report", "models/m.yaml", "-out", "out")
		require.Equal(t, exitUsage, code, name)
		require.Contains(t, said, "nothing is written")
	}
	hidden, err := os.ReadFile("secret.txt")
	require.NoError(t, err)
	require.Equal(t, "hidden", string(hidden))
	answer = service.Outcome{Files: map[string][]byte{"out/report.html": []byte("fine")}}
	code, said = do("report", "models/m.yaml", "-out", "out")
	require.Equal(t, 0, code, said)
	require.FileExists(t, "out/report.html")
}
