<?php

declare(strict_types=1);

namespace KeenLantern\Record\Symfony;

use KeenLantern\Record\Recorder;
use Symfony\Component\DependencyInjection\Argument\RewindableGenerator;
use Symfony\Contracts\Service\ResetInterface;

/** Builds what a recorded container builds, and tells the recorder. The container calls it; applications do not. */
final class Wiring implements ResetInterface
{
    private const MAX_DEPTH = 8; // of arrays in arguments

    /** @var array<string, int> registrations by id */
    private array $registrations = [];
    /** @var array<string, \WeakReference<object>> what was built last under an id */
    private array $latest = [];

    /** @param array<string, array<string, mixed>> $table what is registered, by id */
    public function __construct(private readonly Recorder $recorder, private readonly array $table)
    {
    }

    /**
     * Builds an instance.
     *
     * @param mixed $factory null for the constructor, anything that can be called otherwise
     * @param array<int|string, mixed> $arguments
     */
    public function build(string $id, string $class, mixed $factory, array $arguments): ?object
    {
        if (!$this->recorder->on()) {
            return $factory === null ? new $class(...$arguments) : $factory(...$arguments);
        }
        $holder = null;
        $with = [];
        foreach ($arguments as $n => $argument) {
            $arguments[$n] = $this->watched($argument, $holder);
            $one = $this->given($argument);
            if ($one !== null) {
                $with[] = $one;
            }
        }
        $began = $this->recorder->now();
        try {
            $instance = $factory === null ? new $class(...$arguments) : $factory(...$arguments);
        } catch (\Throwable $e) {
            $this->recorder->say('fail', ['service' => $this->table[$id]['service'], 'why' => 'error', 'scope' => $this->recorder->scope()]);
            throw $e;
        }
        if (!is_object($instance)) {
            return $instance;
        }
        $holder = \WeakReference::create($instance);
        $this->latest[$id] = $holder;
        if ($this->recorder->idOf($instance) === 0) {
            $this->recorder->make($instance, [
                'reg' => $this->registration($id), 'impl' => $instance::class, 'by' => $factory === null ? 'container' : 'factory',
                'ns' => $this->recorder->now() - $began,
            ] + ($with === [] ? [] : ['with' => $with]));
        }
        return $instance;
    }

    /** Tells of what setters and properties gave an instance. */
    public function filled(string $id, object $instance): void
    {
        $to = $this->recorder->on() ? $this->recorder->idOf($instance) : 0;
        foreach ($to === 0 ? [] : $this->table[$id]['set'] ?? [] as [$site, $of]) {
            $given = ($this->latest[$of] ?? null)?->get();
            if ($given !== null && $this->recorder->idOf($given) !== 0) {
                $this->recorder->say('give', [
                    'inst' => $this->recorder->idOf($given), 'scope' => $this->recorder->scope(), 'to' => $to,
                    'service' => $this->table[$of]['service'] ?? $of, 'how' => 'property', 'site' => $site,
                ]);
            }
        }
    }

    /** The container lets go of all that it has built. */
    public function reset(): void
    {
        $this->latest = [];
        $this->recorder->say('forget', ['container' => 1, 'by' => 'container']);
    }

    /** What a resident process does between two requests. */
    public function between(): void
    {
        $this->recorder->tick();
    }

    /** What an argument is, for a make's with: null where it is nothing of the container's. */
    private function given(mixed $argument, int $depth = 0): mixed
    {
        if (is_object($argument)) {
            $inst = $this->recorder->idOf($argument);
            return $inst === 0 ? null : ['inst' => $inst];
        }
        if (!is_array($argument) || $depth === self::MAX_DEPTH) {
            return null;
        }
        $list = [];
        foreach ($argument as $one) {
            $one = $this->given($one, $depth + 1);
            if ($one !== null) {
                $list = array_is_list($one) ? [...$list, ...$one] : [...$list, $one];
            }
        }
        return $list === [] ? null : $list;
    }

    /**
     * All that have a tag, which are built when they are first asked for: each is told of as it is handed out.
     *
     * @param ?\WeakReference<object> $holder whoever is built with it, once it is
     */
    private function watched(mixed $argument, ?\WeakReference &$holder): mixed
    {
        if (!$argument instanceof RewindableGenerator) {
            return $argument;
        }
        return new RewindableGenerator(function () use ($argument, &$holder) {
            foreach ($argument as $key => $one) {
                $inst = is_object($one) && $this->recorder->on() ? $this->recorder->idOf($one) : 0;
                if ($inst !== 0) {
                    $to = $holder === null || $holder->get() === null ? 0 : $this->recorder->idOf($holder->get());
                    $this->recorder->say('give', [
                        'inst' => $inst, 'scope' => $this->recorder->scope(), 'how' => 'provider', 'all' => true,
                    ] + ($to === 0 ? [] : ['to' => $to]));
                }
                yield $key => $one;
            }
        }, fn (): int => count($argument));
    }

    private function registration(string $id): int
    {
        if (!isset($this->registrations[$id])) {
            $members = array_diff_key($this->table[$id] ?? ['service' => $id], ['set' => true]);
            if (isset($members['wraps'])) {
                $members['wraps'] = $this->registration($members['wraps']);
            }
            $this->registrations[$id] = $this->recorder->register($members);
        }
        return $this->registrations[$id];
    }
}
