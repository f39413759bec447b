<?php

declare(strict_types=1);

namespace Saltmarsh\Office\Laravel;

use Illuminate\Contracts\Container\Container;
use Illuminate\Routing\Router;
use Illuminate\Support\ServiceProvider;
use Saltmarsh\Office\BerthPlanner;
use Saltmarsh\Office\BuoyWeather;
use Saltmarsh\Office\FakeWeather;
use Saltmarsh\Office\GaugeTides;
use Saltmarsh\Office\HarbourClock;
use Saltmarsh\Office\LogPage;
use Saltmarsh\Office\NightJob;
use Saltmarsh\Office\PilotRoster;
use Saltmarsh\Office\RadioDesk;
use Saltmarsh\Office\TideModel;
use Saltmarsh\Office\Tides;
use Saltmarsh\Office\TugCrew;
use Saltmarsh\Office\TugDispatcher;
use Saltmarsh\Office\Weather;

/** The office's parts, sound or with a mistake; the container builds most of them by the types that constructors name. */
final class HarbourServiceProvider extends ServiceProvider
{
    public function register(): void
    {
        $app = $this->app;
        $app->singleton(HarbourClock::class);
        $app->singleton(PilotRoster::class, fn () => new PilotRoster());
        $app->singleton(TideModel::class, fn () => TideModel::fromAlmanac());
        $app->singleton(Weather::class, BuoyWeather::class);
        $app->singleton(TugCrew::class, fn () => new TugCrew());
        $app->singleton(TugDispatcher::class);
        $app->scoped(Tides::class, GaugeTides::class);
        $app->scoped(LogPage::class);
        switch (getenv('OFFICE_MISTAKE')) {
            case 'roster-keeps-tides':
                $app->singleton(PilotRoster::class, fn (Container $app) => new PilotRoster($app->make(Tides::class)));
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
    }

    public function boot(Router $router): void
    {
        $this->app->make('queue')->addConnector('memory', fn () => new MemoryQueue());
        $router->post('/arrivals', [OfficeController::class, 'arrivals']);
        $router->get('/pilots', [OfficeController::class, 'pilots']);
        $router->post('/tugs', [OfficeController::class, 'tugs']);
        $router->get('/weather', [OfficeController::class, 'weather']);
        $router->post('/night', [OfficeController::class, 'night']);
        $router->get('/tides/{gauge}', [OfficeController::class, 'tides']);
    }
}
