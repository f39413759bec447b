<?php

// What recording costs a request of the office under PHP's built-in server: alone, alone once more (how far apart two of a kind are),
// with the recorder switched off, and recorded. They are asked alternately, so that a busy machine is as busy for all.
//
//     php office/overhead.php [psr|laravel|symfony [REQUESTS]]

declare(strict_types=1);

$container = $argv[1] ?? 'laravel';
$requests = (int) ($argv[2] ?? 3000);
$folder = sys_get_temp_dir() . '/keenlantern-overhead-' . bin2hex(random_bytes(6));
mkdir($folder);
$modes = [
    'alone' => ['OFFICE_ALONE' => '1'],
    'again' => ['OFFICE_ALONE' => '1'],
    'off' => ['KEENLANTERN_OFF' => '', 'KEENLANTERN_FOLDER' => $folder . '/off'],
    'on' => ['KEENLANTERN_OFF' => '', 'KEENLANTERN_FOLDER' => $folder],
];
mkdir($folder . '/off');
touch($folder . '/off/recording-off');
$servers = $addresses = $took = [];
foreach ($modes as $mode => $environment) {
    $free = stream_socket_server('tcp://127.0.0.1:0');
    $addresses[$mode] = stream_socket_get_name($free, false);
    fclose($free);
    $command = [
        PHP_BINARY, '-d', 'opcache.enable_cli=1', '-d', 'opcache.validate_timestamps=0', '-S', $addresses[$mode],
        __DIR__ . ($container === 'psr' ? '' : "/$container") . '/index.php',
    ];
    $null = ['file', '/dev/null', 'w'];
    mkdir("$folder/$mode-cache");
    $environment['OFFICE_CACHE'] = "$folder/$mode-cache";
    $servers[] = proc_open($command, [1 => $null, 2 => $null], $pipes, null, $environment + getenv());
    for ($until = microtime(true) + 10; !($up = @stream_socket_client("tcp://$addresses[$mode]")) && microtime(true) < $until;) {
        usleep(20_000);
    }
    fclose($up);
}
$names = array_keys($modes);
for ($n = 0; $n < $requests; $n++) {
    shuffle($names);
    foreach ($names as $mode) {
        $began = hrtime(true);
        $socket = stream_socket_client("tcp://$addresses[$mode]");
        fwrite($socket, "POST /arrivals HTTP/1.0\r\nHost: office\r\nContent-Length: 0\r\n\r\n");
        stream_get_contents($socket);
        fclose($socket);
        if ($n >= $requests / 4) { // it is warm by then
            $took[$mode][] = (hrtime(true) - $began) / 1000;
        }
    }
}
foreach ($servers as $server) {
    proc_terminate($server);
    proc_close($server);
}
array_map(unlink(...), [...glob("$folder/*.ndjson"), ...glob("$folder/*-cache/*"), "$folder/off/recording-off"]);
array_map(rmdir(...), [...glob("$folder/*-cache"), "$folder/off"]);
rmdir($folder);
foreach ($took as $mode => $list) {
    sort($list);
    sort($took['alone']);
    printf('%-6s', $mode);
    foreach ([50, 90, 99] as $share) {
        $at = intdiv(count($list) * $share, 100);
        printf('  p%d %6.0f µs (%.3f)', $share, $list[$at], $list[$at] / $took['alone'][$at]);
    }
    echo "\n";
}
