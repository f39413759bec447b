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
    /** @var array<string, int> */
    private array $registrations = [];
    /** @var list<list<array{inst: int, service: string}>> what each construction that runs has asked for */
    private array $running = [];
    /** @var list<string> the services whose constructions run, the outermost first */
    private array $names = [];
    private bool $circle = false; // one has been met and told of
    /** @var \WeakMap<\Throwable, bool> failures that have been told of */
    private \WeakMap $told;

    /**
     * @param array<string, string> $lifetimes of services, as they are meant: singleton, scoped or transient. PSR-11 does not
     *     tell; of what is left out, only what was seen is judged
     * @param bool $nested whether the container's factories ask this one
     */
    public function __construct(
        private readonly ContainerInterface $inner,
        private readonly Recorder $recorder,
        private readonly array $lifetimes = [],
        private readonly bool $nested = true,
    ) {
        $this->told = new \WeakMap();
    }

    public function has(string $id): bool
    {
        return $this->inner->has($id);
    }

    public function get(string $id): mixed
    {
        if (!$this->recorder->on()) {
            return $this->inner->get($id);
        }
        if (\in_array($id, $this->names, true)) {
            $path = \array_slice($this->names, (int) \array_search($id, $this->names, true));
            $this->recorder->say('fail', [
                'service' => $id, 'why' => 'cycle', 'scope' => $this->recorder->scope(), 'path' => [...$path, $id],
            ]);
            $this->circle = true;
        }
        $began = $this->recorder->now();
        $depth = \count($this->running);
        $this->running[] = [];
        $this->names[] = $id;
        try {
            $found = $this->inner->get($id);
        } catch (ContainerExceptionInterface $e) {
            // What failed further in has been told there, and so has a circle.
            if (!isset($this->told[$e]) && !$this->circle) {
                $this->told[$e] = true;
                $missing = $e instanceof NotFoundExceptionInterface;
                $this->recorder->say('fail', [
                    'service' => $id, 'why' => $missing ? 'missing' : 'error', 'scope' => $this->recorder->scope(), 'error' => $e::class,
                ]);
            }
            throw $e;
        } finally {
            $with = $this->running[$depth] ?? [];
            \array_splice($this->running, $depth);
            \array_splice($this->names, $depth);
            $this->circle = $this->circle && $depth > 0;
        }
        if (\is_object($found)) {
            $this->handOut($id, $found, $with, $began);
        }
        return $found;
    }

    /** @param list<array{inst: int, service: string}> $with */
    private function handOut(string $id, object $found, array $with, int $began): void
    {
        $inst = $this->recorder->idOf($found);
        if ($inst === 0) {
            $inst = $this->recorder->make($found, [
                'reg' => $this->registrationOf($id), 'impl' => $found::class,
            ] + ($with === [] ? [] : ['with' => $with]) + ['ns' => $this->recorder->now() - $began, 'by' => 'factory']);
        }
        $by = \count($this->running) - 1;
        if ($by >= 0) {
            $this->running[$by][] = ['inst' => $inst, 'service' => $id];
            return;
        }
        $this->recorder->say('give', [
            'inst' => $inst, 'scope' => $this->recorder->scope(), 'service' => $id, 'entry' => Recorder::kind(), 'how' => 'locator',
        ]);
    }

    private function registrationOf(string $id): int
    {
        if (!isset($this->registrations[$id])) {
            $members = ['service' => $id];
            if (isset($this->lifetimes[$id])) {
                $members['lifetime'] = $this->lifetimes[$id];
            }
            if (!$this->nested) {
                $members['sees'] = ['shared', 'closes', 'fail'];
            }
            $this->registrations[$id] = $this->recorder->register($members);
        }
        return $this->registrations[$id];
    }
}
