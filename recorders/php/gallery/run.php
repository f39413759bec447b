<?php

// Runs one small application under the recorder, sound or with the mistake that people make there, and prints what it counted:
//
//     php gallery/run.php NAME --output FILE [--mistaken]
//     php gallery/run.php --all --output FOLDER

declare(strict_types=1);

use Gallery\Counts;
use Gallery\Running;

require_once __DIR__ . '/autoload.php';

$names = array_map(static fn (string $file): string => basename($file, '.php'), glob(__DIR__ . '/apps/*.php'));
$name = $argv[1] ?? '';
$at = array_search('--output', $argv, true);
$output = $at === false ? '' : $argv[$at + 1] ?? '';
if ($output === '' || $name !== '--all' && !in_array($name, $names, true)) {
    $list = implode(', ', $names);
    fwrite(STDERR, "usage: php gallery/run.php NAME --output FILE [--mistaken], or --all --output FOLDER; NAME is one of $list\n");
    exit(2);
}
if ($name === '--all') {
    foreach ($names as $one) {
        foreach (['' => [], '-mistaken' => ['--mistaken']] as $ending => $more) {
            // A process each: frameworks keep much in static members.
            $command = [PHP_BINARY, __FILE__, $one, '--output', "$output/$one$ending.ndjson", ...$more];
            $process = proc_open($command, [1 => STDOUT, 2 => STDERR], $pipes);
            if (proc_close($process) !== 0) {
                exit(1);
            }
        }
    }
    exit(0);
}
$mistaken = in_array('--mistaken', $argv, true);
$running = new Running($name, $mistaken);
(require __DIR__ . "/apps/$name.php")($running);
$running->finish($output);
echo Counts::json($name, $mistaken), "\n";
