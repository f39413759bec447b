<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

/** What the water will do, from a precomputed table, or that takes a while to work out. */
final class TideModel
{
    /** @param list<float> $table */
    private function __construct(public readonly array $table)
    {
    }

    public static function fromAlmanac(): self
    {
        return new self([1.2, 1.9, 2.7, 3.1, 2.8, 2.0, 1.3]);
    }

    public static function workedOut(): self
    {
        $table = [];
        for ($hour = 0; $hour < 7; $hour++) {
            $height = 0.0;
            for ($n = 1; $n < 30000; $n++) {
                $height += sin($hour / $n) / $n;
            }
            $table[] = $height;
        }
        return new self($table);
    }
}
