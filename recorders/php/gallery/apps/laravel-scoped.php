<?php

// What lives as long as a request, in a process that stays.

declare(strict_types=1);

namespace Gallery\LaravelScoped;

use Illuminate\Foundation\Application;
use Illuminate\Routing\Router;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

final class Quarry
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Load
{
    public function __construct(public readonly Quarry $quarry)
    {
        Counts::made($this);
    }
}

final class Carter
{
    public function __construct(public readonly Load $load)
    {
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app): void {
        $app->singleton(Quarry::class);
        $app->scoped(Load::class);
    }, static function (Router $router): void {
        $router->get('/loads/{stone}', static fn (Carter $carter, Load $load): string => (string) ($carter->load === $load));
    });
    // The mistaken one's server does not forget scoped instances.
    foreach (['slate', 'marble', 'flint'] as $stone) {
        $laravel->get("/loads/$stone", forget: !$running->mistaken);
    }
};
