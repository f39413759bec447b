<?php

// Answers one request over TLS, as a service does: php tests/tls.php CERTIFICATE. It prints its address.

declare(strict_types=1);

$server = stream_socket_server(
    'ssl://127.0.0.1:0',
    $code,
    $message,
    STREAM_SERVER_BIND | STREAM_SERVER_LISTEN,
    stream_context_create(['ssl' => ['local_cert' => $argv[1]]]),
);
echo stream_socket_get_name($server, false), "\n";
while (true) {
    $client = @stream_socket_accept($server, 20);
    if ($client === false) {
        continue; // one that does not trust the certificate
    }
    $head = '';
    while (!str_contains($head, "\r\n\r\n")) {
        $head .= fread($client, 1);
    }
    preg_match('#^PUT /api/v1/streams/([0-9a-f]+)/batches/(\d+) .*Content-Length: (\d+)\r\n.*Authorization: Bearer (\w+)#s', $head, $match);
    $body = stream_get_contents($client, (int) $match[3]);
    file_put_contents($argv[1] . '.taken', $match[4] . "\n" . gzdecode($body), FILE_APPEND);
    $said = json_encode(['stream' => $match[1], 'batch' => (int) $match[2]]);
    fwrite($client, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: " . strlen($said) . "\r\n\r\n" . $said);
    fclose($client);
}
