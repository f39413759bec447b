<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * A part of a stream that waits to be delivered.
 *
 * @internal
 */
final class Batch
{
    /** The text, packed, once it has been tried. */
    public string $packed = '';

    public function __construct(public readonly Stream $stream, public readonly int $number, public string $text)
    {
    }
}
