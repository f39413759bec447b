<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * One request to a service over its own connection, and its answer. Nothing but the look-up of a host's name is waited for.
 *
 * @internal
 */
final class Exchange
{
    private const MOST = 64 << 10; // bytes of an answer that are read
    private const READ = 16 << 10;

    public int $status = 0;
    /** @var array<string, string> by lower-case name */
    public array $headers = [];
    public string $body = '';
    public string $error = '';

    /** @var ?resource */
    private $socket = null;
    private bool $over = false;
    private bool $secure;
    private bool $greeting = false; // the service has to say something before there is more to write
    private bool $sent = false;
    private string $answer = '';
    private int $at = 0; // bytes of the request that have been written
    private readonly int $until;
    private readonly string $head;

    /** @param array<string, string> $headers of the request, apart from those that every request has */
    public function __construct(string $service, string $path, private readonly string $request, array $headers, float $seconds)
    {
        $this->until = \hrtime(true) + (int) ($seconds * 1e9);
        $parts = \parse_url($service);
        $host = $parts['host'] ?? '';
        $this->secure = ($parts['scheme'] ?? '') !== 'https'; // nothing is left to be done for it
        $port = $parts['port'] ?? ($this->secure ? 80 : 443);
        $path = \rtrim($parts['path'] ?? '', '/') . $path;
        $lines = ["PUT $path HTTP/1.0", "Host: $host:$port", 'Content-Length: ' . \strlen($request)];
        foreach ($headers as $name => $value) {
            $lines[] = $name . ': ' . \strtr($value, "\r\n", '  ');
        }
        $this->head = \implode("\r\n", $lines) . "\r\n\r\n";
        $socket = @\stream_socket_client(
            "tcp://$host:$port",
            $code,
            $message,
            $seconds,
            STREAM_CLIENT_CONNECT | STREAM_CLIENT_ASYNC_CONNECT,
            \stream_context_create(['ssl' => ['peer_name' => \trim($host, '[]'), 'SNI_enabled' => true]]),
        );
        if ($socket === false) {
            $this->fail($message === '' ? 'cannot connect' : $message);
            return;
        }
        \stream_set_blocking($socket, false);
        $this->socket = $socket;
    }

    /** Does what can be done without waiting. @return bool whether it is over */
    public function step(): bool
    {
        if ($this->over) {
            return true;
        }
        try {
            $this->go();
        } catch (\Throwable $e) {
            $this->fail($e->getMessage());
        }
        if (!$this->over && \hrtime(true) > $this->until) {
            $this->fail('no answer in time');
        }
        return $this->over;
    }

    /** Waits for something to do, and for the given seconds at most. */
    public function wait(float $seconds): void
    {
        if ($this->over || $this->socket === null) {
            return;
        }
        $read = [$this->socket];
        $write = $this->sent || $this->greeting ? [] : [$this->socket];
        $none = [];
        @\stream_select($read, $write, $none, (int) $seconds, (int) (\fmod($seconds, 1) * 1e6));
    }

    /** Gives it up. */
    public function cancel(): void
    {
        $this->fail('given up');
    }

    private function go(): void
    {
        if (!$this->sent && !$this->connected()) {
            return;
        }
        if (!$this->secure) {
            $done = @\stream_socket_enable_crypto($this->socket, true, STREAM_CRYPTO_METHOD_TLS_CLIENT);
            if ($done === false) {
                $this->fail('no secure connection: ' . (\openssl_error_string() ?: 'the certificate was not accepted'));
            }
            $this->greeting = $done === 0;
            if ($done !== true) {
                return;
            }
            $this->secure = true;
        }
        $text = $this->head . $this->request;
        while (!$this->sent) {
            $n = @\fwrite($this->socket, \substr($text, $this->at));
            if ($n === false) {
                $this->sent = true; // no more of it can be; there may be an answer all the same
                break;
            }
            if ($n === 0) {
                break;
            }
            $this->at += $n;
            $this->sent = $this->at === \strlen($text);
        }
        while (($part = @\fread($this->socket, self::READ)) !== false && $part !== '') {
            $this->answer .= $part;
            if (\strlen($this->answer) > self::MOST) {
                $this->fail('the answer is too long');
                return;
            }
        }
        if (\feof($this->socket)) {
            $this->end();
        }
    }

    /** Whether the connection is there. A socket that is being connected can be written to once it is, or has failed. */
    private function connected(): bool
    {
        $none = [];
        $write = [$this->socket];
        if (@\stream_select($none, $write, $none, 0) !== 1) {
            return false;
        }
        if (@\stream_socket_get_name($this->socket, true) === false) {
            $this->fail('cannot connect');
            return false;
        }
        return true;
    }

    private function end(): void
    {
        [$head, $body] = \explode("\r\n\r\n", $this->answer, 2) + [1 => null];
        $lines = \explode("\r\n", $head);
        if ($body === null || !\preg_match('#^HTTP/1\.\d (\d{3})#', $lines[0], $match)) {
            $this->fail('the connection broke');
            return;
        }
        foreach (\array_slice($lines, 1) as $line) {
            [$name, $value] = \explode(':', $line, 2) + [1 => ''];
            $this->headers[\strtolower($name)] = \trim($value);
        }
        $length = $this->headers['content-length'] ?? '';
        if (\ctype_digit($length) && \strlen($body) < (int) $length) {
            $this->fail('the answer breaks off');
            return;
        }
        $this->status = (int) $match[1];
        $this->body = $body;
        $this->close();
    }

    private function fail(string $why): void
    {
        if (!$this->over) {
            $this->error = $why;
            $this->close();
        }
    }

    private function close(): void
    {
        $this->over = true;
        if ($this->socket !== null) {
            @\fclose($this->socket);
            $this->socket = null;
        }
    }
}
