<?php

// A test of an application, with something else in the place of a part.

declare(strict_types=1);

namespace Gallery\LaravelTesting;

use Illuminate\Foundation\Application;
use Illuminate\Routing\Router;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

interface Oracle
{
}

final class DistantOracle implements Oracle
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class PaperOracle implements Oracle
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Pilgrim
{
    public function __construct(public readonly Oracle $oracle)
    {
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app): void {
        $app->singleton(Oracle::class, DistantOracle::class);
    }, static function (Router $router): void {
        $router->get('/ask', static fn (Pilgrim $pilgrim): string => $pilgrim->oracle::class);
    });
    $laravel->app->instance(Oracle::class, new PaperOracle());
    for ($n = 0; $n < 3; $n++) {
        if ($laravel->get('/ask') !== PaperOracle::class) {
            throw new \LogicException('it asks the real one');
        }
    }
};
