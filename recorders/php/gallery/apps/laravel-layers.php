<?php

// All that have a tag, and layers around a source.

declare(strict_types=1);

namespace Gallery\LaravelLayers;

use Illuminate\Foundation\Application;
use Illuminate\Routing\Router;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

interface Well
{
    public function draw(): int;
}

final class DeepWell implements Well
{
    public function __construct()
    {
        Counts::made($this);
    }

    public function draw(): int
    {
        return 1;
    }
}

final class CoveredWell implements Well
{
    public function __construct(private readonly Well $inner)
    {
        Counts::made($this);
    }

    public function draw(): int
    {
        return $this->inner->draw();
    }
}

final class CountedWell implements Well
{
    public function __construct(private readonly Well $inner)
    {
        Counts::made($this);
    }

    public function draw(): int
    {
        return $this->inner->draw() + 1;
    }
}

final class Rope
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Bucket
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Yard
{
    /** @var list<object> */
    public readonly array $tools;

    public function __construct(public readonly Well $well, iterable $tools)
    {
        $this->tools = [...$tools];
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app) use ($running): void {
        $app->singleton(Well::class, DeepWell::class);
        $app->extend(Well::class, static fn (Well $well) => new CoveredWell($well));
        $app->extend(Well::class, static fn (Well $well) => new CountedWell($well));
        if ($running->mistaken) {
            $app->extend(Well::class, static fn (Well $well) => new CoveredWell($well)); // by another provider, once more
        }
        $app->tag([Rope::class, Bucket::class], 'tools');
        $app->singleton(Yard::class, static fn (Application $app) => new Yard($app->make(Well::class), $app->tagged('tools')));
    }, static function (Router $router): void {
        $router->get('/water', static fn (Yard $yard): string => (string) ($yard->well->draw() + count($yard->tools)));
    });
    for ($n = 0; $n < 3; $n++) {
        $laravel->get('/water');
    }
};
