<?php

// The office as an application of the framework.

declare(strict_types=1);

use Illuminate\Contracts\Console\Kernel as ConsoleKernel;
use Illuminate\Contracts\Debug\ExceptionHandler;
use Illuminate\Contracts\Http\Kernel as HttpKernel;
use Illuminate\Foundation\Application;
use Illuminate\Foundation\Exceptions\Handler;
use KeenLantern\Record\Illuminate\RecordedApplication;
use Saltmarsh\Office\Laravel\Kernel;

require_once __DIR__ . '/../autoload.php';
require_once '/usr/share/php/Illuminate/autoload.php';

// What the framework writes down between requests is not kept: several offices may run at once.
foreach (['APP_SERVICES_CACHE' => 'services', 'APP_PACKAGES_CACHE' => 'packages'] as $name => $file) {
    $folder = getenv('OFFICE_CACHE') ?: sys_get_temp_dir() . '/keenlantern-office-' . getmypid();
    is_dir($folder) || mkdir($folder);
    $_ENV[$name] = $_SERVER[$name] = "$folder/$file.php";
}
$app = getenv('OFFICE_ALONE') ? new Application(__DIR__) : new RecordedApplication(__DIR__);
$app->singleton(HttpKernel::class, Kernel::class);
$app->singleton(ConsoleKernel::class, Illuminate\Foundation\Console\Kernel::class);
$app->singleton(ExceptionHandler::class, Handler::class);

return $app;
