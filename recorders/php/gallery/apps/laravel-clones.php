<?php

// A server that clones the application for each request.

declare(strict_types=1);

namespace Gallery\LaravelClones;

use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;
use Illuminate\Container\Container;
use Illuminate\Contracts\Http\Kernel;
use Illuminate\Foundation\Application;
use Illuminate\Http\Request;
use Illuminate\Routing\Router;
use Illuminate\Support\Facades\Facade;

final class Lighthouse
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Keeper
{
    public function __construct(public readonly Lighthouse $lighthouse, public readonly Application $app)
    {
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app): void {
        $app->singleton(Lighthouse::class);
        $app->singleton(Keeper::class);
    }, static function (Router $router): void {
        $router->get('/light', static fn (): string => Container::getInstance()->make(Keeper::class)::class);
    });
    $running->scope('command', 'warm up', static fn () => $laravel->app->make(Lighthouse::class));
    $kernel = $laravel->app->make(Kernel::class);
    for ($n = 0; $n < 3; $n++) {
        $sandbox = clone $laravel->app;
        $sandbox->instance('app', $sandbox);
        Container::setInstance($sandbox);
        Facade::clearResolvedInstances();
        Facade::setFacadeApplication($sandbox);
        $request = Request::create('/light');
        $response = $kernel->handle($request);
        $kernel->terminate($request, $response);
        if ($response->getContent() !== Keeper::class) {
            throw new \LogicException('it is dark');
        }
        $sandbox->flush();
    }
};
