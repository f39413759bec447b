<?php

// The office's front door: PHP's built-in server, or any other, has it answer each request in its own container.

declare(strict_types=1);

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use Saltmarsh\Office\Office;

require __DIR__ . '/autoload.php';

$recorder = getenv('OFFICE_ALONE') ? null : new Recorder(Settings::fromEnvironment()); // alone: to compare with
$office = new Office($recorder, (string) getenv('OFFICE_MISTAKE'));
$path = (string) parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH);
$route = $_SERVER['REQUEST_METHOD'] . ' ' . (str_starts_with($path, '/tides/') ? '/tides/{gauge}' : $path);
$known = ['POST /arrivals', 'GET /pilots', 'POST /tugs', 'GET /weather', 'POST /night', 'GET /tides/{gauge}'];
if (!in_array($route, $known, true)) {
    http_response_code(404);
    return;
}
header('Content-Type: text/plain');
echo $office->answer('request', $route === 'POST /night' ? 'night job' : $route, $_SERVER['HTTP_TRACEPARENT'] ?? null), "\n";
