package main_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
)

// ask sends a request and returns what came back.
func ask(t *testing.T, client *http.Client, method, url, body string, headers ...string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	for n := 0; n < len(headers); n += 2 {
		req.Header.Set(headers[n], headers[n+1])
	}
	res, err := client.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text)
}

// noise is a line that does not pack well.
func noise(n int) string {
	b := make([]byte, 300)
	_, _ = rand.Read(b) // never fails
	return fmt.Sprintf(`{"ev":"open","t":%d,"scope":%d,"kind":"request","name":"GET /%x"}`+"\n", n, n, b)
}

// TestDiskFull checks that a full disk is reported to the sender, that what was stored stays readable, and that sending goes
// on where it was when there is room again.
func TestDiskFull(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	data := t.TempDir()
	if err := syscall.Mount("tmpfs", data, "tmpfs", 0, "size=12m"); err != nil {
		t.Skip("a small disk takes the right to mount one: ", err)
	}
	defer func() { assert.NoError(t, syscall.Unmount(data, 0)) }()
	bin, err := browser.Build(t.TempDir())
	require.NoError(t, err)
	fat := filepath.Join(data, "something-else")
	service, err := browser.Serve(bin, "serve", filepath.Join(data, "lantern"))
	require.NoError(t, err)
	defer service.Kill()
	put := func(n int, body string) (int, string) {
		return ask(t, http.DefaultClient, http.MethodPut, fmt.Sprintf("%s/api/v1/streams/h-1/batches/%d", service.URL, n), body)
	}
	status, said := put(1, load.Leaky("h-1", 20)[0])
	require.Equal(t, http.StatusOK, status, said)
	require.NoError(t, os.WriteFile(fat, make([]byte, 1<<20), 0o600))
	n := 2
	for ; n < 500; n++ {
		b := strings.Builder{}
		for k := range 200 {
			b.WriteString(noise(1000*n + k))
		}
		if status, said = put(n, b.String()); status != http.StatusOK {
			break
		}
	}
	require.Equal(t, http.StatusInsufficientStorage, status, said)
	assert.Contains(t, said, "disk with the data folder is full")
	assert.Contains(t, said, "make room")
	// A stream that could not be begun has left nothing behind.
	status, said = ask(t, http.DefaultClient, http.MethodPut, service.URL+"/api/v1/streams/h-2/batches/1", strings.Replace(load.Leaky("h-2", 20)[0], `"app":"harbour"`, `"app":"other"`, 1)+noise(1)+noise(2)+noise(3))
	var list views.RecordingList
	get(t, service.URL+"/api/v1/recordings", &list)
	if status == http.StatusInsufficientStorage {
		require.Len(t, list.Recordings, 1, said)
	}
	// It starts on the full disk, and is read there.
	require.NoError(t, service.Stop())
	service, err = browser.Serve(bin, "serve", filepath.Join(data, "lantern"))
	require.NoError(t, err)
	defer service.Kill()
	get(t, service.URL+"/api/v1/recordings", &list)
	require.NotEmpty(t, list.Recordings)
	require.NoError(t, os.Remove(fat))
	last := noise(1_000_000)
	status, said = put(n, last)
	require.Equal(t, http.StatusOK, status, said)
	status, said = put(n, last)
	assert.Equal(t, http.StatusOK, status, "again: %s", said)
	_, trace := ask(t, http.DefaultClient, http.MethodGet, service.URL+"/api/v1/recordings/"+list.Recordings[len(list.Recordings)-1].ID+"/export", "")
	assert.Equal(t, strings.Count(load.Leaky("h-1", 20)[0], "\n")+200*(n-2)+1, strings.Count(trace, "\n"), "all that was acknowledged, once")
	// Full again to the last byte: deleting is how one gets out.
	rest, err := os.Create(fat)
	require.NoError(t, err)
	for piece := make([]byte, 4096); err == nil; {
		_, err = rest.Write(piece)
	}
	require.NoError(t, rest.Close())
	time.Sleep(silence) // until it is running no longer
	status, said = ask(t, http.DefaultClient, http.MethodDelete, service.URL+"/api/v1/recordings/"+list.Recordings[len(list.Recordings)-1].ID, "")
	assert.Equal(t, http.StatusNoContent, status, said)
	status, said = ask(t, http.DefaultClient, http.MethodPut, service.URL+"/api/v1/streams/h-3/batches/1", load.Leaky("h-3", 20)[0])
	assert.Equal(t, http.StatusOK, status, "and then there is room again: %s", said)
	require.NoError(t, service.Stop())
}

// silence is how long a stream is silent until its recording may be deleted.
const silence = 31 * time.Second

// TestFolders holds what is said of data folders that cannot be worked in, and that nothing in them is changed by that.
func TestFolders(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	open := t.TempDir()
	require.NoError(t, os.Chmod(open, 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(open), 0o755))
	bin, err := browser.Build(open)
	require.NoError(t, err)
	fill := func(data string) {
		service, err := browser.Serve(bin, "serve", data)
		require.NoError(t, err)
		for k := range 3 {
			b := strings.Builder{}
			for n := range 600 {
				b.WriteString(noise(n + 1))
			}
			hello := strings.SplitAfter(load.Leaky(fmt.Sprintf("h-%d", k), 5)[0], "\n")[0]
			status, said := ask(t, http.DefaultClient, http.MethodPost, service.URL+"/api/v1/recordings", hello+b.String())
			require.Equal(t, http.StatusCreated, status, said)
		}
		require.NoError(t, service.Stop())
	}
	// serve runs the program to its end, as another user where this one may do everything.
	serve := func(t *testing.T, data string) string {
		cmd := exec.Command(bin, "serve", "--listen", "127.0.0.1:0", "--data", data)
		if os.Geteuid() == 0 {
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		var said bytes.Buffer
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		late := time.AfterFunc(10*time.Second, func() { _ = cmd.Process.Kill() })
		defer late.Stop()
		require.Error(t, cmd.Wait())
		assert.Equal(t, 1, strings.Count(said.String(), "\n"), "a line: %s", &said)
		return said.String()
	}
	t.Run("read only", func(t *testing.T) {
		data := filepath.Join(open, "ours")
		fill(data)
		require.NoError(t, os.Chmod(data, 0o555))
		for _, name := range []string{"keenlantern.db", "keenlantern.lock"} {
			require.NoError(t, os.Chmod(filepath.Join(data, name), 0o444))
		}
		said := serve(t, data)
		assert.Contains(t, said, data)
		assert.Contains(t, said, "cannot be written")
		assert.Contains(t, said, "name another folder with --data")
	})
	t.Run("of a newer version", func(t *testing.T) {
		data := filepath.Join(open, "newer")
		fill(data)
		db, err := sql.Open("sqlite", filepath.Join(data, "keenlantern.db"))
		require.NoError(t, err)
		_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)")
		require.NoError(t, err)
		defer db.Close()
		holds := func() (sum string) {
			const all = "SELECT group_concat(hex(b.body)) || group_concat(s.result) FROM batches b JOIN streams s ON s.id = b.stream"
			require.NoError(t, db.QueryRow(all).Scan(&sum))
			return sum
		}
		before := holds()
		_, err = browser.Serve(bin, "serve", data)
		require.ErrorContains(t, err, "written by a newer version of keenlantern")
		assert.True(t, before == holds())
	})
	t.Run("not a database", func(t *testing.T) {
		data := filepath.Join(open, "noise")
		require.NoError(t, os.Mkdir(data, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(data, "keenlantern.db"), []byte(strings.Repeat("tide table ", 1000)), 0o600))
		_, err := browser.Serve(bin, "serve", data)
		require.ErrorContains(t, err, "damaged")
	})
	t.Run("a damaged page", func(t *testing.T) {
		data := filepath.Join(open, "damaged")
		fill(data)
		file := filepath.Join(data, "keenlantern.db")
		body, err := os.ReadFile(file)
		require.NoError(t, err)
		db, err := sql.Open("sqlite", file)
		require.NoError(t, err)
		page := 0
		require.NoError(t, db.QueryRow("SELECT pageno FROM dbstat WHERE name = 'batches' AND pagetype = 'overflow' LIMIT 1").Scan(&page))
		require.NoError(t, db.Close())
		at := (page - 1) * 4096
		copy(body[at:at+4096], bytes.Repeat([]byte{0xa5}, 4096))
		require.NoError(t, os.WriteFile(file, body, 0o600))
		service, err := browser.Serve(bin, "serve", data)
		require.NoError(t, err)
		defer service.Kill()
		var list views.RecordingList
		get(t, service.URL+"/api/v1/recordings", &list)
		require.Len(t, list.Recordings, 3)
		whole, broken := 0, 0
		for _, r := range list.Recordings {
			status, text := ask(t, http.DefaultClient, http.MethodGet, service.URL+"/api/v1/recordings/"+r.ID+"/export", "")
			require.Equal(t, http.StatusOK, status, "what can be read is exported")
			if strings.Count(text, "\n") == 601 {
				whole++
				continue
			}
			broken++
			assert.Contains(t, text, "could not be read from the store")
		}
		assert.Equal(t, []int{2, 1}, []int{whole, broken}, "one is damaged, the others are as they were")
		status, said := ask(t, http.DefaultClient, http.MethodPut, service.URL+"/api/v1/streams/h-9/batches/1", load.Leaky("h-9", 5)[0])
		assert.Equal(t, http.StatusOK, status, "and new ones are taken: %s", said)
		require.NoError(t, service.Stop())
	})
}

// TestFarAddress checks that on an address others can reach the service wants a token before it starts and with every
// request, over HTTPS, and under the names it is called.
func TestFarAddress(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	far := ""
	addrs, err := net.InterfaceAddrs()
	require.NoError(t, err)
	for _, a := range addrs {
		if ip, ok := a.(*net.IPNet); ok && !ip.IP.IsLoopback() && ip.IP.To4() != nil {
			far = ip.IP.String()
		}
	}
	if far == "" {
		t.Skip("this machine has no address but loopback")
	}
	folder := t.TempDir()
	bin, err := browser.Build(folder)
	require.NoError(t, err)
	data := filepath.Join(folder, "data")
	_, err = browser.Serve(bin, "serve", data, "--listen", far+":0")
	require.ErrorContains(t, err, "there is no token yet; make one first with 'keenlantern token create manage")
	out, err := exec.Command(bin, "token", "create", "read", "--data", data).CombinedOutput()
	require.NoError(t, err, "%s", out)
	secret, _, _ := strings.Cut(string(out), "\n")
	cert, key := certificate(t, folder, far)
	service, err := browser.Serve(bin, "serve", data, "--listen", far+":0", "--tls-cert", cert, "--tls-key", key, "--host", "lantern.saltmarsh.example")
	require.NoError(t, err)
	defer service.Kill()
	require.True(t, strings.HasPrefix(service.URL, "https://"+far+":"), service.URL)
	pool := x509.NewCertPool()
	text, err := os.ReadFile(cert)
	require.NoError(t, err)
	require.True(t, pool.AppendCertsFromPEM(text))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	list := service.URL + "/api/v1/recordings"
	status, said := ask(t, client, http.MethodGet, list, "")
	assert.Equal(t, http.StatusUnauthorized, status, said)
	status, said = ask(t, client, http.MethodGet, list, "", "Authorization", "Bearer "+secret)
	assert.Equal(t, http.StatusOK, status, said)
	status, said = ask(t, client, http.MethodGet, list, "", "Authorization", "Bearer "+secret, "Origin", "https://elsewhere.example")
	assert.Equal(t, http.StatusForbidden, status, said)
	for host, want := range map[string]int{"lantern.saltmarsh.example": http.StatusOK, "elsewhere.example": http.StatusForbidden} {
		req, err := http.NewRequest(http.MethodGet, list, nil)
		require.NoError(t, err)
		req.Host = host
		req.Header.Set("Authorization", "Bearer "+secret)
		res, err := client.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		assert.Equal(t, want, res.StatusCode, host)
	}
	_, err = http.Get(strings.Replace(list, "https:", "http:", 1))
	if err == nil {
		status, _ = ask(t, http.DefaultClient, http.MethodGet, strings.Replace(list, "https:", "http:", 1), "")
		assert.Equal(t, http.StatusBadRequest, status, "nothing is sent without HTTPS")
	}
	// A certificate that is renewed is shown without a restart.
	cert, _ = certificate(t, folder, far)
	text, err = os.ReadFile(cert)
	require.NoError(t, err)
	renewed := x509.NewCertPool()
	require.True(t, renewed.AppendCertsFromPEM(text))
	require.Eventually(t, func() bool {
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: renewed}, DisableKeepAlives: true}}
		res, err := client.Get(service.URL + "/healthz")
		if err != nil {
			return false
		}
		defer res.Body.Close()
		return res.Header.Get("Strict-Transport-Security") != ""
	}, 20*time.Second, 500*time.Millisecond)
	require.NoError(t, service.Stop())
}

// certificate writes one for an address, signed by itself.
func certificate(t *testing.T, folder, ip string) (cert, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.ParseIP(ip)}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	require.NoError(t, err)
	packed, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	cert, key = filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: packed}), 0o600))
	return cert, key
}
