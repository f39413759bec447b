<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

/** Remembers which gauges have been asked for. */
final class AuditedTides implements Tides
{
    /** @var array<string, int> */
    private array $asked = [];

    public function __construct(private readonly Tides $inner)
    {
    }

    public function height(string $gauge): float
    {
        $this->asked[$gauge] = ($this->asked[$gauge] ?? 0) + 1;
        return $this->inner->height($gauge);
    }
}
