<?php

// Runs the office under real work, with a mistake, while it is recorded:
//
//     php office/run.php list [--container psr|laravel|symfony] [--resident]
//     php office/run.php run --folder FOLDER | --service URL | --output FILE
//         [--mistake NAME] [--requests N] [--container psr|laravel|symfony] [--resident] [--off]
//
// Requests are answered by PHP's built-in server with four workers, each in its own container that records into the folder;
// --resident has one process do all work, as a queue's worker does, and send it to a service if one is named. It prints how many
// requests were answered, or the stream and its events.

declare(strict_types=1);

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use Saltmarsh\Office\Laravel\Worker;
use Saltmarsh\Office\Office;

require __DIR__ . '/autoload.php';

$options = [];
for ($n = 2; $n < $argc; $n++) {
    $name = substr($argv[$n], 2);
    $options[$name] = in_array($name, ['resident', 'off'], true) ? true : ($argv[++$n] ?? '');
}
$container = $options['container'] ?? 'psr';
$resident = isset($options['resident']);
$impossible = [ // what cannot go wrong there, or leaves no trace; testdata/offices.yaml says why
    'psr' => ['gauge-read-direct'], 'laravel' => ['crew-waits-for-tug', 'gauge-read-direct'], 'symfony' => ['crew-waits-for-tug', 'station-misspelt'],
];
if (($argv[1] ?? '') === 'list') {
    foreach (Office::MISTAKES as $name => $says) {
        // What a singleton keeps goes with its process.
        if (!in_array($name, $impossible[$container], true) && ($resident || $name !== 'roster-keeps-tides')) {
            printf("%-20s %s\n", $name, $says);
        }
    }
    exit(0);
}
if (($argv[1] ?? '') !== 'run' || !isset($options['folder']) && !isset($options['service']) && !isset($options['output'])) {
    fwrite(STDERR, "usage: php office/run.php run --folder FOLDER [--mistake NAME] [--requests N] [--container NAME] [--resident] [--off]\n");
    exit(2);
}
// What the office needs while it runs.
$own = sys_get_temp_dir() . '/keenlantern-office-' . bin2hex(random_bytes(6));
mkdir($own);
mkdir("$own/traces");
register_shutdown_function(static function () use ($own): void {
    array_map(unlink(...), [...glob("$own/*.php") ?: [], ...glob("$own/traces/*") ?: []]);
    rmdir("$own/traces");
    rmdir($own);
});
$folder = $options['folder'] ?? "$own/traces";
$mistake = $options['mistake'] ?? 'none';
$requests = (int) ($options['requests'] ?? 300);
$app = $options['app'] ?? 'harbour-office-php';
$work = [['POST', '/arrivals'], ['GET', '/pilots'], ['GET', '/tides/outer-bar'], ['POST', '/tugs'], ['GET', '/weather'], ['POST', '/night']];
$environment = [
    'KEENLANTERN_APP' => $app, 'KEENLANTERN_FOLDER' => $folder, 'KEENLANTERN_ENVIRONMENT' => 'production', 'KEENLANTERN_VERSION' => '1.0.0',
    'KEENLANTERN_OFF' => isset($options['off']) ? '1' : '', 'OFFICE_MISTAKE' => $mistake, 'OFFICE_CACHE' => $own,
];

if ($resident) {
    array_walk($environment, static fn (string $value, string $name) => putenv("$name=$value"));
    $settings = new Settings(
        $app,
        isset($options['service']) && !isset($options['folder']) ? '' : $folder,
        true,
        environment: 'production',
        version: '1.0.0',
        off: isset($options['off']),
        service: isset($options['folder']) ? '' : $options['service'] ?? '',
    );
    if ($container === 'laravel') {
        $office = new Worker($settings);
        $recorder = $office->recorder();
    } else {
        $recorder = new Recorder($settings);
        $office = new Office($recorder, $mistake);
    }
    for ($n = 0; $n < $requests; $n++) {
        [$method, $path] = $work[$n % count($work)];
        $office->work('job', $path === '/night' ? 'night job' : $method . ' ' . preg_replace('#^/tides/.*#', '/tides/{gauge}', $path));
    }
    $office->finish();
    $stream = $recorder->stream();
    $why = $recorder->end();
    if ($why !== '') {
        fwrite(STDERR, "$why\n");
        exit(1);
    }
    if (isset($options['output'])) {
        file_put_contents($options['output'], gzencode((string) file_get_contents(glob("$folder/*.ndjson")[0])));
    }
    echo json_encode(isset($options['folder']) ? ['answered' => $requests] : ['stream' => $stream] + $recorder->totals()), "\n";
    exit(0);
}

$free = stream_socket_server('tcp://127.0.0.1:0');
$address = stream_socket_get_name($free, false);
fclose($free);
$server = proc_open(
    // Its workers are its group.
    ['setsid', PHP_BINARY, '-d', 'opcache.enable_cli=1', '-S', $address, __DIR__ . ($container === 'psr' ? '' : "/$container") . '/index.php'],
    [1 => ['file', '/dev/null', 'w'], 2 => ['file', '/dev/null', 'w']],
    $pipes,
    null,
    $environment + ['PHP_CLI_SERVER_WORKERS' => '4'] + getenv(),
);
$until = microtime(true) + 10;
while (!($up = @stream_socket_client("tcp://$address")) && microtime(true) < $until) {
    usleep(20_000);
}
if (!$up) {
    posix_kill(-proc_get_status($server)['pid'], SIGTERM);
    fwrite(STDERR, "the office's server does not start\n");
    exit(1);
}
fclose($up);
// Four concurrent clients, each over its own connections.
$children = [];
for ($child = 0; $child < 4; $child++) {
    $pid = pcntl_fork();
    if ($pid === 0) {
        $failed = false;
        for ($n = $child; $n < $requests; $n += 4) {
            [$method, $path] = $work[intdiv($n, 4) % count($work)];
            $said = @file_get_contents("http://$address$path", false, stream_context_create(['http' => ['method' => $method, 'timeout' => 20]]));
            if ($said === false) {
                fwrite(STDERR, "$method $path: " . ($http_response_header[0] ?? 'no answer') . "\n");
                $failed = true;
                break;
            }
        }
        posix_kill(posix_getpid(), $failed ? SIGTERM : SIGKILL); // without the endings of the process that it was made from
    }
    $children[] = $pid;
}
$failed = false;
foreach ($children as $pid) {
    pcntl_waitpid($pid, $status);
    $failed = $failed || pcntl_wtermsig($status) !== SIGKILL;
}
posix_kill(-proc_get_status($server)['pid'], SIGTERM);
proc_close($server);
if ($failed) {
    fwrite(STDERR, "a request was not answered\n");
    exit(1);
}
echo json_encode(['answered' => $requests]), "\n";
