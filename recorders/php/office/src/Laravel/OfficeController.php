<?php

declare(strict_types=1);

namespace Saltmarsh\Office\Laravel;

use Illuminate\Contracts\Container\BindingResolutionException;
use Illuminate\Contracts\Container\Container;
use Saltmarsh\Office\ArrivalDesk;
use Saltmarsh\Office\NightJob;
use Saltmarsh\Office\PilotRoster;
use Saltmarsh\Office\RadioDesk;
use Saltmarsh\Office\Tides;
use Saltmarsh\Office\TugDispatcher;

/** Answers the office's requests. */
final class OfficeController
{
    public function arrivals(ArrivalDesk $desk): string
    {
        return $desk->take('Grey Seal');
    }

    public function pilots(PilotRoster $roster): string
    {
        return implode(', ', $roster->onDuty());
    }

    public function tugs(TugDispatcher $dispatcher): string
    {
        return $dispatcher->send();
    }

    public function weather(Container $app): string
    {
        try {
            return $app->make(RadioDesk::class)->report();
        } catch (BindingResolutionException) {
            return 'not today'; // one of the mistakes
        }
    }

    public function night(NightJob $job): string
    {
        $job->run();
        return 'done';
    }

    public function tides(Tides $tides, string $gauge): string
    {
        return (string) $tides->height($gauge);
    }
}
