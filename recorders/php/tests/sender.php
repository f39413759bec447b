<?php

// Records three hundred scopes in a process that stays, delivers them to the service that is named within the seconds that are named
// for a batch, says when all calls are made, and prints what became of it.

declare(strict_types=1);

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;

require __DIR__ . '/bootstrap.php';

ini_set('error_log', '/dev/null');
$recorder = new Recorder(new Settings(
    'harbour',
    resident: true,
    service: $argv[1],
    alone: true,
    flushWithin: 40,
    timeout: (float) $argv[2],
    batch: 2048,
));
$reg = $recorder->register(['service' => 'TideSource', 'lifetime' => 'scoped']);
for ($n = 0; $n < 300; $n++) {
    $scope = $recorder->open('request', 'GET /tides/' . $n % 7);
    $recorder->make(new ArrayObject(), ['reg' => $reg]);
    $recorder->close($scope);
    if ($n % 20 === 0) {
        usleep(2000); // for several batches
    }
}
echo "made\n";
$error = $recorder->end();
echo json_encode($recorder->totals() + ['error' => $error]), "\n";
