<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/** Writes keys of any type, and what is asked for and not registered. */
final class Keys
{
    /** Stands for a service or key that is asked for and not registered, where it is not written. */
    public const NOT_REGISTERED = '(not registered)';

    /** How many different ones are written: they may come from requests, and so be data without bound. */
    private const MOST = 256;

    /** @var \WeakMap<object, int> */
    private \WeakMap $numbers;
    private int $count = 0;
    /** @var array<string, true> */
    private array $unregistered = [];

    public function __construct(private readonly bool $hide = false)
    {
        $this->numbers = new \WeakMap();
    }

    /**
     * How a trace writes a key: a text as it is, anything else as its type in parentheses and its value, so that keys which
     * differ never look alike. An object is numbered in the order in which it is met: what it prints of itself is never asked for.
     */
    public function text(mixed $key): string
    {
        return match (true) {
            \is_string($key) => \str_starts_with($key, '(') ? '(text) ' . $key : $key,
            \is_bool($key) => $key ? '(bool) true' : '(bool) false',
            \is_int($key) => '(int) ' . $key,
            \is_float($key) => '(float) ' . $key,
            $key instanceof \UnitEnum => '(' . $key::class . ') ' . $key->name,
            \is_object($key) => '(' . $key::class . ') #' . ($this->numbers[$key] ??= ++$this->count),
            default => '(' . \get_debug_type($key) . ')',
        };
    }

    /**
     * The members of a failure for want of a registration, with the placeholder where a name is not written. Of a service with a
     * key, the key alone may be data.
     *
     * @param array<string, mixed> $members
     * @return array<string, mixed>
     */
    public function unregistered(array $members): array
    {
        $service = \is_string($members['service'] ?? null) ? $members['service'] : '';
        $key = \is_string($members['key'] ?? null) ? $members['key'] : null;
        $at = \hash('xxh128', $service . "\0" . ($key ?? ''));
        if (!$this->hide && (isset($this->unregistered[$at]) || \count($this->unregistered) < self::MOST)) {
            $this->unregistered[$at] = true;
            return $members;
        }
        return [...$members, $key === null ? 'service' : 'key' => self::NOT_REGISTERED];
    }
}
