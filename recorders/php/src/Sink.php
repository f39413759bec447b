<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Where the lines of a process go.
 *
 * @internal
 */
interface Sink
{
    /**
     * Takes lines of a stream. It waits for no other machine.
     *
     * @return string '' if they will arrive, else why nothing more of this stream can
     */
    public function take(Stream $stream, string $lines): string;

    /** The bytes that it holds. */
    public function held(): int;

    /**
     * Does what can be done without waiting.
     *
     * @return string '', or why nothing more of the current stream can be delivered
     */
    public function step(): string;

    /**
     * Delivers what it holds, and waits for that.
     *
     * @return string '' if all is delivered, else why it is not
     */
    public function finish(float $seconds): string;
}
