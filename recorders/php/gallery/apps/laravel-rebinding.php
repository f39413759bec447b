<?php

// A name that is rebound while others hold the instance from before.

declare(strict_types=1);

namespace Gallery\LaravelRebinding;

use Illuminate\Foundation\Application;
use Illuminate\Routing\Router;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

final class Wind
{
    public function __construct(public readonly string $from)
    {
        Counts::made($this);
    }
}

final class Vane
{
    private ?Wind $wind = null;

    public function __construct()
    {
        Counts::made($this);
    }

    public function turn(Wind $wind): void
    {
        $this->wind = $wind;
    }

    public function points(): string
    {
        return $this->wind?->from ?? 'nowhere';
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app): void {
        $app->singleton(Wind::class, static fn () => new Wind('north'));
        $app->singleton(Vane::class, static function (Application $app): Vane {
            $vane = new Vane();
            $vane->turn($app->refresh(Wind::class, $vane, 'turn'));
            return $vane;
        });
    }, static function (Router $router): void {
        $router->get('/vane', static fn (Vane $vane): string => $vane->points());
    });
    $laravel->get('/vane');
    $laravel->app->singleton(Wind::class, static fn () => new Wind('south'));
    if ($laravel->get('/vane') !== 'south') {
        throw new \LogicException('it does not turn');
    }
};
