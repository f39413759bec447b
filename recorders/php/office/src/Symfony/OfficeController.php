<?php

declare(strict_types=1);

namespace Saltmarsh\Office\Symfony;

use Saltmarsh\Office\ArrivalDesk;
use Saltmarsh\Office\NightJob;
use Saltmarsh\Office\PilotRoster;
use Saltmarsh\Office\RadioDesk;
use Saltmarsh\Office\Tides;
use Saltmarsh\Office\TugDispatcher;
use Symfony\Component\HttpFoundation\Response;

/** Answers the office's requests. */
final class OfficeController
{
    public function __construct(
        private readonly ArrivalDesk $desk,
        private readonly PilotRoster $roster,
        private readonly TugDispatcher $dispatcher,
        private readonly RadioDesk $radio,
        private readonly NightJob $job,
        private readonly Tides $gauges,
    ) {
    }

    public function arrivals(): Response
    {
        return new Response($this->desk->take('Grey Seal'));
    }

    public function pilots(): Response
    {
        return new Response(implode(', ', $this->roster->onDuty()));
    }

    public function tugs(): Response
    {
        return new Response($this->dispatcher->send());
    }

    public function weather(): Response
    {
        return new Response($this->radio->report());
    }

    public function night(): Response
    {
        $this->job->run();
        return new Response('done');
    }

    public function tides(string $gauge): Response
    {
        return new Response((string) $this->gauges->height($gauge));
    }
}
