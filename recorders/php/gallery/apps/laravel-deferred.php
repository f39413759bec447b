<?php

// A provider that is registered when something of it is asked for.

declare(strict_types=1);

namespace Gallery\LaravelDeferred;

use Illuminate\Contracts\Support\DeferrableProvider;
use Illuminate\Foundation\Application;
use Illuminate\Routing\Router;
use Illuminate\Support\ServiceProvider;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

interface Bell
{
}

final class BronzeBell implements Bell
{
    public function __construct()
    {
        Counts::made($this);
    }
}

class BellProvider extends ServiceProvider implements DeferrableProvider
{
    public function register(): void
    {
        $this->app->singleton(Bell::class, BronzeBell::class);
    }

    /** @return list<class-string> */
    public function provides(): array
    {
        return [Bell::class];
    }
}

// It does not say what it provides.
final class SilentBellProvider extends BellProvider
{
    public function provides(): array
    {
        return [];
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static fn () => null, static function (Router $router): void {
        $router->get('/ring', static fn (Bell $bell): string => $bell::class);
    }, [$running->mistaken ? SilentBellProvider::class : BellProvider::class]);
    for ($n = 0; $n < 3; $n++) {
        $laravel->get('/ring', status: $running->mistaken ? 500 : 200);
    }
};
