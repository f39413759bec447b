<?php

declare(strict_types=1);

namespace Gallery;

/** What an application itself counts, beside the recorder: how many instances of each class it made. */
final class Counts
{
    /** @var array<string, int> */
    private static array $made = [];

    /** Counts an instance, in its constructor. */
    public static function made(object $instance): void
    {
        $name = basename(str_replace('\\', '/', $instance::class));
        self::$made[$name] = (self::$made[$name] ?? 0) + 1;
    }

    public static function json(string $name, bool $mistaken): string
    {
        return json_encode(['name' => $name, 'mistaken' => $mistaken, 'made' => (object) self::$made, 'disposed' => (object) []]);
    }
}
