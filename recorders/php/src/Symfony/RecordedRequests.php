<?php

declare(strict_types=1);

namespace KeenLantern\Record\Symfony;

use KeenLantern\Record\Recorder;
use Symfony\Component\EventDispatcher\EventSubscriberInterface;
use Symfony\Component\HttpKernel\Event\RequestEvent;
use Symfony\Component\HttpKernel\KernelEvents;

/** Has each main request of an HTTP kernel be a scope, until the kernel has terminated. Register it as an event subscriber. */
final class RecordedRequests implements EventSubscriberInterface
{
    private int $scope = 0;

    public function __construct(private readonly Recorder $recorder)
    {
    }

    /** @return array<string, mixed> */
    public static function getSubscribedEvents(): array
    {
        return [
            KernelEvents::REQUEST => [['opened', 4096], ['routed', 0]], // the router's listener has 32
            KernelEvents::TERMINATE => ['ended', -4096],
        ];
    }

    public function opened(RequestEvent $event): void
    {
        if ($event->isMainRequest()) {
            $this->ended(); // of one that was not terminated
            $request = $event->getRequest();
            $this->scope = $this->recorder->open('request', Recorder::methodOf($request->getMethod()), $request->headers->get('traceparent'));
        }
    }

    /** Names the scope by its route, now that it has been found. */
    public function routed(RequestEvent $event): void
    {
        $route = $event->getRequest()->attributes->get('_route');
        if ($event->isMainRequest() && \is_string($route)) {
            $this->recorder->name($this->scope, Recorder::methodOf($event->getRequest()->getMethod()) . ' ' . $route);
            $handler = $event->getRequest()->attributes->get('_controller');
            if (\is_array($handler) && \is_string($handler[0] ?? null) && \is_string($handler[1] ?? null)) {
                $handler = "$handler[0]::$handler[1]";
            }
            $this->recorder->handledBy(\is_string($handler) ? $handler : '');
        }
    }

    public function ended(): void
    {
        if ($this->scope !== 0) {
            $this->recorder->close($this->scope);
            $this->scope = 0;
        }
    }
}
