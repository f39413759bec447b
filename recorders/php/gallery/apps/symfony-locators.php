<?php

// All that have a tag, as they are asked for, and a locator of some.

declare(strict_types=1);

namespace Gallery\SymfonyLocators;

use Gallery\Compiled;
use Gallery\Counts;
use Gallery\Running;
use Psr\Container\ContainerInterface;
use Symfony\Component\DependencyInjection\Argument\TaggedIteratorArgument;
use Symfony\Component\DependencyInjection\Compiler\ServiceLocatorTagPass;
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\Reference;

final class Hammer
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Chisel
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Drill
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Smithy
{
    /** @param iterable<object> $tools */
    public function __construct(private readonly iterable $tools, private readonly ContainerInterface $locator)
    {
        Counts::made($this);
    }

    public function work(): int
    {
        return count([...$this->tools]) + (int) ($this->locator->get('drill') instanceof Drill);
    }
}

final class Forge
{
    public static function drill(): Drill
    {
        throw new \DomainException('the forge is cold');
    }
}

return static function (Running $running): void {
    $compiled = new Compiled($running, static function (ContainerBuilder $container) use ($running): void {
        $container->register(Hammer::class)->addTag('tool');
        $container->register(Chisel::class)->addTag('tool');
        $drill = $container->register(Drill::class);
        if ($running->mistaken) {
            $drill->setFactory([Forge::class, 'drill']);
        }
        $container->register(Smithy::class)->setPublic(true)->setArguments([
            new TaggedIteratorArgument('tool'), ServiceLocatorTagPass::register($container, ['drill' => new Reference(Drill::class)]),
        ]);
    });
    $container = $compiled->boot();
    for ($n = 0; $n < 2; $n++) {
        $running->scope('request', 'GET smithy', static function () use ($container, $running): void {
            $smithy = $container->get(Smithy::class);
            $running->mistaken ? Running::refused($smithy->work(...)) : $smithy->work();
        });
    }
};
