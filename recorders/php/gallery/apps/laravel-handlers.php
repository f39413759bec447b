<?php

// Controllers and middleware, built by the framework, whose methods it fills.

declare(strict_types=1);

namespace Gallery\LaravelHandlers;

use Illuminate\Foundation\Application;
use Illuminate\Http\Request;
use Illuminate\Routing\Router;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

interface Map
{
}

final class Seal
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Archive
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Stamp
{
    public function __construct(private readonly Seal $seal)
    {
        Counts::made($this);
    }

    public function handle(Request $request, \Closure $next): mixed
    {
        return $next($request);
    }
}

final class ArchiveController
{
    public function __construct(private readonly Archive $archive)
    {
        Counts::made($this);
    }

    public function show(Seal $seal, string $shelf): string
    {
        return $shelf;
    }

    public function map(Map $map): string
    {
        return 'map';
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app): void {
        $app->singleton(Archive::class);
    }, static function (Router $router): void {
        $router->get('/shelves/{shelf}', [ArchiveController::class, 'show'])->middleware(Stamp::class);
        $router->get('/map', [ArchiveController::class, 'map']); // nothing is bound for what it asks
    });
    foreach (['north', 'south'] as $shelf) {
        $laravel->get("/shelves/$shelf");
    }
    if ($running->mistaken) {
        $laravel->get('/map', status: 500);
    }
};
