<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class TugDispatcher
{
    public function __construct(private readonly TugCrew $crew, private readonly Weather $weather)
    {
    }

    public function send(): string
    {
        return $this->weather->wind() > 9 ? 'stay' : 'a crew' . ($this->crew->dispatcher === null ? '' : ' that waits');
    }
}
