<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class RadioDesk
{
    public function __construct(private readonly Weather $weather)
    {
    }

    public function report(): string
    {
        return 'wind ' . $this->weather->wind();
    }
}
