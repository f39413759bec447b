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

    /** @var ?\WeakMap<Recorder, \ArrayObject<string, int>> registrations by id and what they say, of recorders that outlive a container */
    private static ?\WeakMap $known = null;

    /** @var array<string, int> registrations by id */
    private array $registrations = [];
    /** @var array<string, \WeakReference<object>> what was built last under an id */
    private array $latest = [];
    /** @var array<string, list<string>> decorators by the id of what they stand around */
    private array $around = [];

    /** @param array<string, array<string, mixed>> $table what is registered, by id */
    public function __construct(private readonly Recorder $recorder, private readonly array $table)
    {
        foreach ($table as $id => $members) {
            if (isset($members['wraps'])) {
                $this->around[$members['wraps']][] = $id;
            }
        }
        self::$known ??= new \WeakMap();
        if (isset(self::$known[$recorder])) {
            $recorder->say('forget', ['container' => 1, 'by' => 'container']); // it goes on with another container
        } else {
            self::$known[$recorder] = new \ArrayObject();
        }
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
            if ($argument instanceof RewindableGenerator) {
                $arguments[$n] = $this->watched($argument, $holder);
            } elseif (\is_object($argument)) {
                $inst = $this->recorder->idOf($argument);
                if ($inst === 0 && isset($this->table[$id]['outside'][$n])) {
                    $inst = $this->recorder->make($argument, [
                        'reg' => $this->registration($this->table[$id]['outside'][$n]), 'impl' => $argument::class, 'by' => 'external',
                    ]);
                }
                if ($inst !== 0) {
                    $with[] = $inst;
                }
            } elseif (\is_array($argument) && ($list = $this->given($argument)) !== []) {
                $with[] = $list;
            }
        }
        $began = $this->recorder->now();
        try {
            $instance = $factory === null ? new $class(...$arguments) : $factory(...$arguments);
        } catch (\Throwable $e) {
            $this->recorder->say('fail', [
                'service' => $this->table[$id]['service'], 'why' => 'error', 'scope' => $this->recorder->scope(), 'error' => $e::class,
            ]);
            throw $e;
        }
        if (!\is_object($instance)) {
            return $instance;
        }
        $holder = \WeakReference::create($instance);
        $this->latest[$id] = $holder;
        if ($this->recorder->idOf($instance) === 0) {
            $this->recorder->make($instance, [
                'reg' => $this->registration($id), 'impl' => $instance::class,
            ] + ($with === [] ? [] : ['with' => $with]) + [
                'ns' => $this->recorder->now() - $began, 'by' => $factory === null ? 'container' : 'factory',
            ]);
        }
        return $instance;
    }

    /** Reports what setters and properties gave an instance. */
    public function filled(string $id, object $instance): void
    {
        $to = $this->recorder->on() ? $this->recorder->idOf($instance) : 0;
        foreach ($to === 0 ? [] : $this->table[$id]['set'] ?? [] as [$site, $of]) {
            $given = ($this->latest[$of] ?? null)?->get();
            if ($given !== null && $this->recorder->idOf($given) !== 0) {
                $this->recorder->say('give', [
                    'inst' => $this->recorder->idOf($given), 'scope' => $this->recorder->scope(),
                    'service' => $this->table[$of]['service'] ?? $of, 'to' => $to, 'how' => 'property', 'site' => $site,
                ]);
            }
        }
    }

    /** The container releases all that it has built. */
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

    /**
     * What is in a list that is given, for a make's with.
     *
     * @param array<mixed> $argument
     * @return list<int>
     */
    private function given(array $argument, int $depth = 0): array
    {
        $list = [];
        foreach ($argument as $one) {
            if (\is_object($one) && ($inst = $this->recorder->idOf($one)) !== 0) {
                $list[] = $inst;
            } elseif (\is_array($one) && $depth < self::MAX_DEPTH) {
                $list = [...$list, ...$this->given($one, $depth + 1)];
            }
        }
        return $list;
    }

    /**
     * All that have a tag, which are built when they are first asked for: each is recorded as it is handed out.
     *
     * @param ?\WeakReference<object> $holder the instance that is built with it, once it is
     */
    private function watched(RewindableGenerator $argument, ?\WeakReference &$holder): RewindableGenerator
    {
        return new RewindableGenerator(function () use ($argument, &$holder) {
            foreach ($argument as $key => $one) {
                $inst = \is_object($one) && $this->recorder->on() ? $this->recorder->idOf($one) : 0;
                if ($inst !== 0) {
                    $to = $holder === null || $holder->get() === null ? 0 : $this->recorder->idOf($holder->get());
                    $this->recorder->say('give', [
                        'inst' => $inst, 'scope' => $this->recorder->scope(),
                    ] + ($to === 0 ? [] : ['to' => $to]) + ['how' => 'provider', 'all' => true]);
                }
                yield $key => $one;
            }
        }, fn (): int => \count($argument));
    }

    private function registration(string $id): int
    {
        if (isset($this->registrations[$id])) {
            return $this->registrations[$id];
        }
        $members = \array_diff_key($this->table[$id] ?? ['service' => $id], ['set' => true, 'outside' => true]);
        if (isset($members['wraps'])) {
            $members['wraps'] = $this->registration($members['wraps']);
        }
        $key = $id . "\0" . \serialize($members);
        $known = self::$known[$this->recorder];
        $this->registrations[$id] = $known[$key] ??= $this->recorder->register($members);
        // A consumer may bypass a decorator that has not been built.
        foreach ($this->around[$id] ?? [] as $decorator) {
            $this->registration($decorator);
        }
        return $this->registrations[$id];
    }
}
