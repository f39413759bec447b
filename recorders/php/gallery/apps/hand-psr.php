<?php

// A container made by hand, whose factories ask the recorded one.

declare(strict_types=1);

namespace Gallery\HandPsr;

use Gallery\Counts;
use Gallery\Running;
use KeenLantern\Record\RecordedContainer;
use Psr\Container\ContainerExceptionInterface;
use Psr\Container\ContainerInterface;

final class Spring
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Brook
{
    public function __construct(public readonly Spring $spring)
    {
        Counts::made($this);
    }
}

final class Mill
{
    public function __construct(public readonly object $of)
    {
        Counts::made($this);
    }
}

final class Circle extends \LogicException implements ContainerExceptionInterface
{
}

final class Box implements ContainerInterface
{
    public ?ContainerInterface $asked = null;
    /** @var array<string, object> */
    private array $shared = [];
    /** @var array<string, true> */
    private array $building = [];

    /** @param array<string, \Closure(ContainerInterface): object> $factories */
    public function __construct(private readonly array $factories)
    {
    }

    public function has(string $id): bool
    {
        return isset($this->factories[$id]);
    }

    public function get(string $id): object
    {
        if (isset($this->building[$id])) {
            throw new Circle("$id needs itself");
        }
        $this->building[$id] = true;
        try {
            return $this->shared[$id] ??= $this->factories[$id]($this->asked);
        } finally {
            unset($this->building[$id]);
        }
    }
}

return static function (Running $running): void {
    $box = new Box([
        'spring' => static fn (ContainerInterface $c) => new Spring(),
        'brook' => static fn (ContainerInterface $c) => new Brook($c->get('spring')),
        'mill' => static fn (ContainerInterface $c) => new Mill($c->get($running->mistaken ? 'weir' : 'brook')),
        'weir' => static fn (ContainerInterface $c) => new Mill($c->get('mill')), // which needs it
    ]);
    $lifetimes = array_fill_keys(['spring', 'brook', 'mill', 'weir'], 'singleton');
    $box->asked = $container = new RecordedContainer($box, $running->recorder(), $lifetimes);
    for ($n = 0; $n < 3; $n++) {
        $running->scope('request', 'GET /mill', static function () use ($container, $running): void {
            $container->get('brook');
            $running->mistaken ? Running::refused(static fn () => $container->get('mill')) : $container->get('mill');
        });
    }
};
