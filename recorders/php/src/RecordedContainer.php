<?php

declare(strict_types=1);

namespace KeenLantern\Record;

use Psr\Container\ContainerExceptionInterface;
use Psr\Container\ContainerInterface;
use Psr\Container\NotFoundExceptionInterface;

/**
 * Stands before any PSR-11 container and records what passes through it: what is asked for, what is built for whom, what is
 * shared.
 *
 * What a factory asks the inner container for directly does not pass through here. Let the container give this one to its
 * factories; where it cannot, say so with $nested, and what an instance was given counts as not seen.
 */
final class RecordedContainer implements ContainerInterface
{
    private readonly Wired $wired;

    /**
     * @param array<string, string> $lifetimes of services, as they are meant: singleton, scoped or transient. PSR-11 does not
     *     tell; of what is left out, only what was seen is judged
     * @param bool $nested whether the container's factories ask this one
     */
    public function __construct(
        private readonly ContainerInterface $inner,
        Recorder $recorder,
        private readonly array $lifetimes = [],
        bool $nested = true,
    ) {
        $this->wired = new Wired($recorder, $nested);
    }

    public function has(string $id): bool
    {
        return $this->inner->has($id);
    }

    public function get(string $id): mixed
    {
        return $this->wired->resolve(
            $id,
            fn (): mixed => $this->inner->get($id),
            $this->lifetimes[$id] ?? '',
            static fn (\Throwable $e): ?string => match (true) {
                $e instanceof NotFoundExceptionInterface => 'missing',
                $e instanceof ContainerExceptionInterface => 'error',
                default => null, // it was thrown by what was being built
            },
        );
    }
}
