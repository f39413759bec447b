<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * What is recorded from when recording begins to when it ends.
 *
 * @internal
 */
final class Stream
{
    public readonly string $id;
    /** When it began, by hrtime. */
    public readonly int $began;
    public bool $refused = false;
    public int $batches = 0; // that have been numbered

    public function __construct()
    {
        $this->id = \bin2hex(\random_bytes(12));
        $this->began = \hrtime(true);
    }

    /** ns since its start. */
    public function now(): int
    {
        return \hrtime(true) - $this->began;
    }
}
