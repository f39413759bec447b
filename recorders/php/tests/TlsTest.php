<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use PHPUnit\Framework\TestCase;

/** A service over TLS is only told anything, its token included, when its certificate is one that PHP trusts. */
final class TlsTest extends TestCase
{
    use WithFolder;

    private string $service;
    /** @var resource */
    private $server;

    protected function setUp(): void
    {
        $this->makeFolder();
        $config = "$this->folder/openssl.cnf";
        file_put_contents($config, "[req]\ndistinguished_name=name\nx509_extensions=more\n[name]\n[more]\nsubjectAltName=IP:127.0.0.1\n");
        $settings = ['config' => $config, 'digest_alg' => 'sha256', 'private_key_bits' => 2048];
        $key = openssl_pkey_new($settings);
        $request = openssl_csr_new(['commonName' => '127.0.0.1'], $key, $settings);
        openssl_x509_export(openssl_csr_sign($request, null, $key, 1, $settings), $certificate);
        openssl_pkey_export($key, $private, null, $settings);
        file_put_contents("$this->folder/certificate", $certificate . $private);
        $null = ['file', '/dev/null', 'w'];
        $this->server = proc_open([PHP_BINARY, __DIR__ . '/tls.php', "$this->folder/certificate"], [1 => ['pipe', 'w'], 2 => $null], $pipes);
        $this->service = 'https://' . trim((string) fgets($pipes[1]));
    }

    protected function tearDown(): void
    {
        putenv('SSL_CERT_FILE');
        proc_terminate($this->server);
        proc_close($this->server);
        $this->dropFolder();
    }

    private function record(): string
    {
        $settings = new Settings('harbour', resident: true, service: $this->service, token: 'secret', alone: true, flushWithin: 0.7, timeout: 0.5);
        $log = ini_set('error_log', '/dev/null');
        $recorder = new Recorder($settings);
        $recorder->close($recorder->open('job', 'the only one'));
        $why = $recorder->end();
        ini_set('error_log', (string) $log);
        return $why;
    }

    public function testTrusted(): void
    {
        putenv("SSL_CERT_FILE=$this->folder/certificate");
        self::assertSame('', $this->record());
        $taken = (string) file_get_contents("$this->folder/certificate.taken");
        self::assertStringStartsWith("secret\n{\"ev\":\"hello\"", $taken);
        self::assertStringContainsString('"the only one"', $taken);
    }

    public function testUntrusted(): void
    {
        self::assertStringContainsString('no secure connection', $this->record());
        self::assertFileDoesNotExist("$this->folder/certificate.taken");
    }
}
