<?php

// Runs the office under real requests, with a mistake, and has it record into a folder:
//
//     php office/run.php list [--resident [--container illuminate]]
//     php office/run.php run --folder FOLDER [--mistake NAME] [--requests N] [--resident [--container illuminate]] [--off]
//
// Sound or not, requests are answered by PHP's built-in server with four workers; --resident has one process do all work, as a
// queue's worker does, on a container made by hand or on the framework's. It prints how many requests were answered.

declare(strict_types=1);

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use Saltmarsh\Office\FrameworkOffice;
use Saltmarsh\Office\Office;

require __DIR__ . '/autoload.php';

$options = [];
for ($n = 2; $n < $argc; $n++) {
    $name = substr($argv[$n], 2);
    $options[$name] = in_array($name, ['resident', 'off'], true) ? true : ($argv[++$n] ?? '');
}
if (($argv[1] ?? '') === 'list') {
    foreach (Office::MISTAKES as $name => $says) {
        if (($options['container'] ?? '') === 'illuminate' && $name === 'crew-waits-for-tug') {
            continue; // it recurses until PHP's memory is spent
        }
        if (isset($options['resident']) || $name !== 'roster-keeps-tides') { // what a singleton keeps goes with its process
            printf("%-20s %s\n", $name, $says);
        }
    }
    exit(0);
}
if (($argv[1] ?? '') !== 'run' || !isset($options['folder'])) {
    fwrite(STDERR, "usage: php office/run.php run --folder FOLDER [--mistake NAME] [--requests N] [--resident] [--off]\n");
    exit(2);
}
$mistake = $options['mistake'] ?? 'none';
$requests = (int) ($options['requests'] ?? 300);
$app = $options['app'] ?? 'harbour-office-php';
$work = [['POST', '/arrivals'], ['GET', '/pilots'], ['GET', '/tides/outer-bar'], ['POST', '/tugs'], ['GET', '/weather'], ['POST', '/night']];

if (isset($options['resident'])) {
    $recorder = new Recorder(new Settings($app, $options['folder'], true, environment: 'production', version: '1.0.0', off: isset($options['off'])));
    $office = ($options['container'] ?? '') === 'illuminate' ? new FrameworkOffice($recorder, $mistake) : new Office($recorder, $mistake);
    for ($n = 0; $n < $requests; $n++) {
        [$method, $path] = $work[$n % count($work)];
        $office->work('job', $path === '/night' ? 'night job' : $method . ' ' . preg_replace('#^/tides/.*#', '/tides/{gauge}', $path));
    }
    echo json_encode(['answered' => $requests]), "\n";
    exit(0);
}

$free = stream_socket_server('tcp://127.0.0.1:0');
$address = stream_socket_get_name($free, false);
fclose($free);
$environment = getenv() + [];
$environment['PHP_CLI_SERVER_WORKERS'] = '4';
$environment['KEENLANTERN_APP'] = $app;
$environment['KEENLANTERN_FOLDER'] = $options['folder'];
$environment['KEENLANTERN_ENVIRONMENT'] = 'production';
$environment['KEENLANTERN_VERSION'] = '1.0.0';
$environment['KEENLANTERN_OFF'] = isset($options['off']) ? '1' : '';
$environment['OFFICE_MISTAKE'] = $mistake;
$server = proc_open(
    ['setsid', PHP_BINARY, '-d', 'opcache.enable_cli=1', '-S', $address, __DIR__ . '/index.php'], // its workers are its group
    [1 => ['file', '/dev/null', 'w'], 2 => ['file', '/dev/null', 'w']],
    $pipes,
    null,
    $environment,
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
// Four who ask at once, each over its own connections.
$children = [];
for ($child = 0; $child < 4; $child++) {
    $pid = pcntl_fork();
    if ($pid === 0) {
        for ($n = $child; $n < $requests; $n += 4) {
            [$method, $path] = $work[intdiv($n, 4) % count($work)];
            $said = @file_get_contents("http://$address$path", false, stream_context_create(['http' => ['method' => $method, 'timeout' => 20]]));
            if ($said === false) {
                exit(1);
            }
        }
        exit(0);
    }
    $children[] = $pid;
}
$failed = false;
foreach ($children as $pid) {
    pcntl_waitpid($pid, $status);
    $failed = $failed || pcntl_wexitstatus($status) !== 0;
}
posix_kill(-proc_get_status($server)['pid'], SIGTERM);
proc_close($server);
if ($failed) {
    fwrite(STDERR, "a request was not answered\n");
    exit(1);
}
echo json_encode(['answered' => $requests]), "\n";
