<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class TugCrew
{
    public function __construct(public readonly ?TugDispatcher $dispatcher = null)
    {
    }
}
