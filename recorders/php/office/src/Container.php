<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

use Psr\Container\ContainerExceptionInterface;
use Psr\Container\ContainerInterface;
use Psr\Container\NotFoundExceptionInterface;

/** A container made by hand: factories by name, each given whatever is in front of this container. */
final class Container implements ContainerInterface
{
    /** @var array<string, object> */
    private array $shared = [];
    /** @var array<string, true> */
    private array $building = [];
    private ?ContainerInterface $front = null;

    /**
     * @param array<string, \Closure(ContainerInterface): object> $factories
     * @param array<string, string> $lifetimes singleton, scoped or transient
     */
    public function __construct(private readonly array $factories, private readonly array $lifetimes)
    {
    }

    /** Has factories ask another container, which asks this one. */
    public function behind(ContainerInterface $front): void
    {
        $this->front = $front;
    }

    public function has(string $id): bool
    {
        return isset($this->factories[$id]);
    }

    public function get(string $id): object
    {
        if (isset($this->shared[$id])) {
            return $this->shared[$id];
        }
        if (!isset($this->factories[$id])) {
            throw new class ("there is no $id") extends \RuntimeException implements NotFoundExceptionInterface {
            };
        }
        if (isset($this->building[$id])) {
            throw new class ("$id needs itself") extends \RuntimeException implements ContainerExceptionInterface {
            };
        }
        $this->building[$id] = true;
        try {
            $object = $this->factories[$id]($this->front ?? $this);
        } finally {
            unset($this->building[$id]);
        }
        if ($this->lifetimes[$id] !== 'transient') {
            $this->shared[$id] = $object;
        }
        return $object;
    }

    /** Releases what belongs to one request or job. */
    public function endScope(): void
    {
        foreach ($this->lifetimes as $id => $lifetime) {
            if ($lifetime === 'scoped') {
                unset($this->shared[$id]);
            }
        }
    }
}
