<?php

// Bindings of every kind: shared or not, by class or closure, for one consumer, with parameters.

declare(strict_types=1);

namespace Gallery\LaravelBindings;

use Illuminate\Contracts\Container\Container;
use Illuminate\Foundation\Application;
use Illuminate\Routing\Router;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

interface Dye
{
}

final class Indigo implements Dye
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Madder implements Dye
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Vat
{
    public function __construct(public readonly string $of)
    {
        Counts::made($this);
    }
}

final class Cloth
{
    public function __construct(public readonly int $width)
    {
        Counts::made($this);
    }
}

final class Dyer
{
    public function __construct(public readonly Dye $dye, public readonly Container $container)
    {
        Counts::made($this);
    }
}

final class Painter
{
    public function __construct(public readonly Dye $dye)
    {
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app) use ($running): void {
        $app->singleton(Dye::class, Indigo::class);
        // Two vats, each meant to be one of its own.
        $app->singleton('vat.blue', static fn () => new Vat('blue'));
        $app->singleton('vat.red', static fn () => new Vat('red'));
        // The name of the dye is spelt otherwise.
        $app->when(Painter::class)->needs(Dye::class)->give($running->mistaken ? 'mader' : Madder::class);
    }, static function (Router $router): void {
        $router->get('/cloth', static function (Dyer $dyer): string {
            $cloth = $dyer->container->make(Cloth::class, ['width' => 90]);
            return $cloth->width . $dyer->container->make('vat.blue')->of . $dyer->container->make('vat.red')->of;
        });
        $router->get('/painting', static fn (Painter $painter): string => $painter->dye::class);
    });
    for ($n = 0; $n < 3; $n++) {
        $laravel->get('/cloth');
        $laravel->get('/painting', status: $running->mistaken ? 500 : 200);
    }
};
