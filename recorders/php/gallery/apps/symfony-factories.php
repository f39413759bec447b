<?php

// Factories, services that are not shared, and one that is set from outside.

declare(strict_types=1);

namespace Gallery\SymfonyFactories;

use Gallery\Compiled;
use Gallery\Counts;
use Gallery\Running;
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\Reference;

final class River
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Wheel
{
    public function __construct(public readonly River $river)
    {
        Counts::made($this);
    }
}

final class Sack
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Miller
{
    public Sack $sack;

    public function __construct(public readonly Wheel $wheel)
    {
        Counts::made($this);
    }

    public function setSack(Sack $sack): void
    {
        $this->sack = $sack;
    }

    public static function wheel(River $river): Wheel
    {
        return new Wheel($river);
    }
}

return static function (Running $running): void {
    $compiled = new Compiled($running, static function (ContainerBuilder $container) use ($running): void {
        $container->register(River::class)->setSynthetic(true)->setPublic(true);
        $container->register(Wheel::class)->setFactory([Miller::class, 'wheel'])->setArguments([new Reference(River::class)]);
        $container->register(Sack::class)->setShared(false)->setPublic(true);
        $container->register(Miller::class)->setPublic(true)->setArguments([new Reference(Wheel::class)])
            ->addMethodCall('setSack', [new Reference(Sack::class)]);
        if ($running->mistaken) {
            $container->register('night.miller', Miller::class)->setPublic(true)->setArguments([new Reference(Wheel::class)]); // once more
        }
    });
    $container = $compiled->boot();
    $container->set(River::class, new River());
    for ($n = 0; $n < 3; $n++) {
        $running->scope('request', 'GET flour', static function () use ($container, $running): void {
            $container->get(Miller::class);
            $container->get(Sack::class);
            if ($running->mistaken) {
                $container->get('night.miller');
            }
        });
    }
};
