<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

use Illuminate\Container\Container as Illuminate;
use KeenLantern\Record\Illuminate\RecordedContainer;
use KeenLantern\Record\Recorder;

/** The same office on the framework's container, which builds most of it by the types that constructors name. */
final class FrameworkOffice implements Works
{
    private readonly Illuminate $app;

    public function __construct(private readonly ?Recorder $recorder, string $mistake)
    {
        $app = $recorder === null ? new Illuminate() : (new RecordedContainer())->recordWith($recorder);
        $app->singleton(HarbourClock::class);
        $app->singleton(PilotRoster::class, fn () => new PilotRoster());
        $app->singleton(TideModel::class, fn () => TideModel::fromAlmanac());
        $app->singleton(Weather::class, BuoyWeather::class);
        $app->singleton(TugCrew::class, fn () => new TugCrew());
        $app->singleton(TugDispatcher::class);
        $app->scoped(GaugeTides::class);
        $app->scoped(LogPage::class);
        switch ($mistake) {
            case 'roster-keeps-tides':
                $app->singleton(PilotRoster::class, fn (Illuminate $app) => new PilotRoster($app->make(GaugeTides::class)));
                break;
            case 'model-rebuilt':
                $app->bind(TideModel::class, fn () => TideModel::workedOut());
                break;
            case 'two-clocks':
                $app->singleton('nightClock', fn () => new HarbourClock());
                $app->when(NightJob::class)->needs(HarbourClock::class)->give('nightClock');
                break;
            case 'station-misspelt':
                $app->when(RadioDesk::class)->needs(Weather::class)->give('outerbarWeather');
                break;
            case 'stand-in-weather':
                $app->singleton(Weather::class, FakeWeather::class);
                break;
        }
        $this->app = $app;
    }

    public function work(string $kind, string $name, ?string $traceparent = null): string
    {
        $scope = $this->recorder?->open($kind, $name, $traceparent);
        try {
            return match ($name) {
                'POST /arrivals' => $this->app->make(ArrivalDesk::class)->take('Grey Seal'),
                'GET /pilots' => implode(', ', $this->app->make(PilotRoster::class)->onDuty()),
                'POST /tugs' => $this->app->make(TugDispatcher::class)->send(),
                'GET /weather' => $this->app->make(RadioDesk::class)->report(),
                'night job' => $this->app->make(NightJob::class)->run() ?? 'done',
                default => (string) $this->app->make(GaugeTides::class)->height('outer-bar'),
            };
        } catch (\Psr\Container\ContainerExceptionInterface) {
            return 'not today'; // one of the mistakes
        } finally {
            $this->app->forgetScopedInstances();
            $this->recorder?->close($scope);
        }
    }
}
