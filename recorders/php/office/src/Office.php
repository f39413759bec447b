<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

use KeenLantern\Record\RecordedContainer;
use KeenLantern\Record\Recorder;
use Psr\Container\ContainerInterface as Ask;

/** Wires the office, sound or with a mistake, and lets it do its work. */
final class Office implements Works
{
    public const MISTAKES = [
        'roster-keeps-tides' => 'the pilot roster, a singleton, keeps the tide readings of the first job that needed them',
        'model-rebuilt' => 'the tide model was registered with what each request has of its own, and takes a while to build',
        'two-clocks' => "the night job's clock was registered a second time instead of asking for the one there is",
        'station-misspelt' => 'the radio desk asks for the weather of a station whose name is spelt otherwise',
        'crew-waits-for-tug' => "the tug's crew asks for the dispatcher, who asks for the crew",
        'gauge-read-direct' => 'the berth planner asks for the gauge itself and bypasses the decorators that audit and cache it',
        'stand-in-weather' => "the weather that tests use was left in place of the buoy's",
    ];

    private const LIFETIMES = [
        'harbourClock' => 'singleton', 'pilotRoster' => 'singleton', 'tideModel' => 'singleton', 'gaugeTides' => 'scoped',
        'logPage' => 'scoped', 'outerBarWeather' => 'singleton', 'berthPlanner' => 'transient', 'arrivalDesk' => 'transient',
        'tugCrew' => 'singleton', 'tugDispatcher' => 'singleton', 'radioDesk' => 'transient', 'nightJob' => 'transient',
    ];

    private readonly Container $container;
    private readonly Ask $ask;

    public function __construct(private readonly ?Recorder $recorder, string $mistake)
    {
        $lifetimes = self::LIFETIMES;
        $factories = [
            'harbourClock' => fn () => new HarbourClock(),
            'pilotRoster' => fn () => new PilotRoster(),
            'tideModel' => fn () => TideModel::fromAlmanac(),
            'gaugeTides' => fn (Ask $c) => new GaugeTides($c->get('harbourClock')),
            'logPage' => fn () => new LogPage(),
            'outerBarWeather' => fn (Ask $c) => new BuoyWeather($c->get('harbourClock')),
            'berthPlanner' => fn (Ask $c) => new BerthPlanner($c->get('gaugeTides'), $c->get('tideModel')),
            'arrivalDesk' => fn (Ask $c) => new ArrivalDesk($c->get('berthPlanner'), $c->get('pilotRoster'), $c->get('logPage')),
            'tugCrew' => fn () => new TugCrew(),
            'tugDispatcher' => fn (Ask $c) => new TugDispatcher($c->get('tugCrew'), $c->get('outerBarWeather')),
            'radioDesk' => fn (Ask $c) => new RadioDesk($c->get('outerBarWeather')),
            'nightJob' => fn (Ask $c) => new NightJob($c->get('harbourClock'), $c->get('logPage')),
        ];
        switch ($mistake) {
            case 'roster-keeps-tides':
                $factories['pilotRoster'] = fn (Ask $c) => new PilotRoster($c->get('gaugeTides'));
                break;
            case 'model-rebuilt':
                $factories['tideModel'] = fn () => TideModel::workedOut();
                $lifetimes['tideModel'] = 'transient';
                break;
            case 'two-clocks':
                $factories['nightClock'] = fn () => new HarbourClock();
                $lifetimes['nightClock'] = 'singleton';
                $factories['nightJob'] = fn (Ask $c) => new NightJob($c->get('nightClock'), $c->get('logPage'));
                break;
            case 'station-misspelt':
                $factories['radioDesk'] = fn (Ask $c) => new RadioDesk($c->get('outerbarWeather'));
                break;
            case 'crew-waits-for-tug':
                $factories['tugCrew'] = fn (Ask $c) => new TugCrew($c->get('tugDispatcher'));
                break;
            case 'stand-in-weather':
                $factories['outerBarWeather'] = fn () => new FakeWeather();
                break;
        }
        $this->container = new Container($factories, $lifetimes);
        $this->ask = $recorder === null ? $this->container : new RecordedContainer($this->container, $recorder, $lifetimes);
        $this->container->behind($this->ask);
    }

    public function work(string $kind, string $name): void
    {
        $this->answer($kind, $name, null);
    }

    public function finish(): void
    {
        // It is all done.
    }

    /** Does a piece of work, and returns the result. */
    public function answer(string $kind, string $name, ?string $traceparent): string
    {
        $scope = $this->recorder?->open($kind, $name, $traceparent);
        try {
            return $this->do($name);
        } catch (\Psr\Container\ContainerExceptionInterface) {
            return 'not today'; // one of the mistakes
        } finally {
            $this->container->endScope();
            $this->recorder?->close($scope);
        }
    }

    private function do(string $name): string
    {
        switch ($name) {
            case 'POST /arrivals':
                return $this->ask->get('arrivalDesk')->take('Grey Seal');
            case 'GET /pilots':
                return implode(', ', $this->ask->get('pilotRoster')->onDuty());
            case 'POST /tugs':
                return $this->ask->get('tugDispatcher')->send();
            case 'GET /weather':
                return $this->ask->get('radioDesk')->report();
            case 'night job':
                $this->ask->get('nightJob')->run();
                return 'done';
        }
        return (string) $this->ask->get('gaugeTides')->height('outer-bar');
    }
}
