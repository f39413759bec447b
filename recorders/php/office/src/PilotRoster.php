<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class PilotRoster
{
    public function __construct(public readonly ?Tides $tides = null)
    {
    }

    /** @return list<string> */
    public function onDuty(): array
    {
        return ['Ames', 'Bryce', 'Coll'];
    }
}
