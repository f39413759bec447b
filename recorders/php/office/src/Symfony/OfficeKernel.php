<?php

declare(strict_types=1);

namespace Saltmarsh\Office\Symfony;

use KeenLantern\Record\Symfony\RecordedRequests;
use KeenLantern\Record\Symfony\RecordingPass;
use Saltmarsh\Office\ArrivalDesk;
use Saltmarsh\Office\AuditedTides;
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
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\ContainerInterface;
use Symfony\Component\DependencyInjection\Dumper\PhpDumper;
use Symfony\Component\DependencyInjection\Reference;
use Symfony\Component\EventDispatcher\EventDispatcher;
use Symfony\Component\EventDispatcher\EventDispatcherInterface;
use Symfony\Component\HttpFoundation\RequestStack;
use Symfony\Component\HttpKernel\Controller\ArgumentResolver;
use Symfony\Component\HttpKernel\Controller\ContainerControllerResolver;
use Symfony\Component\HttpKernel\EventListener\RouterListener;
use Symfony\Component\HttpKernel\HttpKernel;
use Symfony\Component\Routing\Matcher\UrlMatcher;
use Symfony\Component\Routing\RequestContext;
use Symfony\Component\Routing\Route;
use Symfony\Component\Routing\RouteCollection;

/** Puts the office's container together, sound or with a mistake, compiles it once, and has requests be answered from it. */
final class OfficeKernel
{
    private const ROUTES = [
        'arrivals' => ['POST', '/arrivals'], 'pilots' => ['GET', '/pilots'], 'tugs' => ['POST', '/tugs'], 'weather' => ['GET', '/weather'],
        'night' => ['POST', '/night'], 'tides' => ['GET', '/tides/{gauge}'],
    ];

    /** The compiled container: from the folder, or into it for the next one. */
    public static function container(string $folder, string $mistake, bool $recorded): ContainerInterface
    {
        $path = "$folder/container.php";
        if (!is_file($path)) {
            $container = self::wire($mistake, $recorded);
            $container->compile();
            $new = $path . '.' . getmypid();
            file_put_contents($new, (new PhpDumper($container))->dump(['class' => 'OfficeContainer']));
            rename($new, $path); // several processes may do so at once
        }
        require_once $path;
        return new \OfficeContainer();
    }

    private static function wire(string $mistake, bool $recorded): ContainerBuilder
    {
        $container = new ContainerBuilder();
        if ($recorded) {
            RecordingPass::addTo($container, 'harbour-office-php');
            $container->autowire(RecordedRequests::class)->addTag('kernel.event_subscriber');
        }
        $parts = [
            HarbourClock::class, PilotRoster::class, GaugeTides::class, LogPage::class, BuoyWeather::class, BerthPlanner::class, ArrivalDesk::class,
            TugCrew::class, TugDispatcher::class, RadioDesk::class, NightJob::class, OfficeController::class,
        ];
        foreach ($parts as $class) {
            $container->autowire($class);
        }
        $container->getDefinition(PilotRoster::class)->setArgument('$tides', null);
        $container->getDefinition(TugCrew::class)->setArgument('$dispatcher', null);
        $container->register(TideModel::class)->setFactory([TideModel::class, 'fromAlmanac']);
        $container->setAlias(Tides::class, GaugeTides::class);
        $container->autowire(AuditedTides::class)->setDecoratedService(Tides::class)->setArgument('$inner', new Reference('.inner'));
        $container->setAlias(Weather::class, BuoyWeather::class);
        $container->getDefinition(OfficeController::class)->setPublic(true);
        switch ($mistake) {
            case 'model-rebuilt':
                $container->register(TideModel::class)->setFactory([TideModel::class, 'workedOut'])->setShared(false);
                break;
            case 'two-clocks':
                $container->register('night_clock', HarbourClock::class);
                $container->getDefinition(NightJob::class)->setArgument('$clock', new Reference('night_clock'));
                break;
            case 'gauge-read-direct':
                $container->getDefinition(BerthPlanner::class)->setArgument('$tides', new Reference(AuditedTides::class . '.inner'));
                break;
            case 'stand-in-weather':
                $container->autowire(FakeWeather::class);
                $container->setAlias(Weather::class, FakeWeather::class);
                break;
        }
        self::wireHttp($container);
        return $container;
    }

    private static function wireHttp(ContainerBuilder $container): void
    {
        $container->register(RequestStack::class);
        $container->register(RouteCollection::class)->setFactory([self::class, 'routes']);
        $container->register(UrlMatcher::class)->setArguments([new Reference(RouteCollection::class), new Reference(RequestContext::class)]);
        $container->register(RequestContext::class);
        $container->register(RouterListener::class)->setArguments([new Reference(UrlMatcher::class), new Reference(RequestStack::class)])
            ->addTag('kernel.event_subscriber');
        $events = $container->register(EventDispatcherInterface::class, EventDispatcher::class);
        foreach ($container->findTaggedServiceIds('kernel.event_subscriber') as $id => $tags) {
            $events->addMethodCall('addSubscriber', [new Reference($id)]);
        }
        $container->register(ContainerControllerResolver::class)->setArguments([new Reference('service_container')]);
        $container->register(ArgumentResolver::class);
        $container->register(HttpKernel::class)->setPublic(true)->setArguments([
            new Reference(EventDispatcherInterface::class), new Reference(ContainerControllerResolver::class), new Reference(RequestStack::class),
            new Reference(ArgumentResolver::class),
        ]);
    }

    public static function routes(): RouteCollection
    {
        $routes = new RouteCollection();
        foreach (self::ROUTES as $name => [$method, $path]) {
            $routes->add($name, new Route($path, ['_controller' => [OfficeController::class, $name]], methods: [$method]));
        }
        return $routes;
    }
}
