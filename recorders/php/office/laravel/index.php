<?php

// The office's front door, in an application of the framework for each request.

declare(strict_types=1);

use Illuminate\Contracts\Http\Kernel;
use Illuminate\Http\Request;

$app = require __DIR__ . '/app.php';
$kernel = $app->make(Kernel::class);
$request = Request::capture();
$response = $kernel->handle($request)->send();
$kernel->terminate($request, $response);
