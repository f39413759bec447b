<?php

// The office's front door on a compiled container, one for each request.

declare(strict_types=1);

use Saltmarsh\Office\Symfony\OfficeKernel;
use Symfony\Component\HttpFoundation\Request;
use Symfony\Component\HttpKernel\HttpKernel;

require_once __DIR__ . '/../autoload.php';
foreach (['Config', 'DependencyInjection', 'EventDispatcher', 'HttpFoundation', 'HttpKernel', 'Routing'] as $component) {
    require_once "/usr/share/php/Symfony/Component/$component/autoload.php";
}
$container = OfficeKernel::container((string) getenv('OFFICE_CACHE'), (string) getenv('OFFICE_MISTAKE'), !getenv('OFFICE_ALONE'));
$kernel = $container->get(HttpKernel::class);
$request = Request::createFromGlobals();
$response = $kernel->handle($request)->send();
$kernel->terminate($request, $response);
