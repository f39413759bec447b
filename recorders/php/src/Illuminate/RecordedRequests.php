<?php

declare(strict_types=1);

namespace KeenLantern\Record\Illuminate;

use Illuminate\Http\Request;
use KeenLantern\Record\Recorder;

/** Has each request be a scope, around all other middleware, until the application has terminated. */
final class RecordedRequests
{
    private int $scope = 0;
    private ?Request $request = null;

    public function __construct(private readonly Recorder $recorder)
    {
    }

    /** The framework calls it; what it returns is the request's response. */
    public function handle(Request $request, \Closure $next): mixed
    {
        $this->begin($request);
        return $next($request);
    }

    /** Opens the request's scope. */
    public function begin(Request $request): void
    {
        $this->end(); // of one that was not terminated
        $this->request = $request;
        $this->scope = $this->recorder->open('request', Recorder::methodOf($request->getMethod()), $request->headers->get('traceparent'));
    }

    /** Names the request's scope by its route, which has been found. */
    public function is(Request $request, string $route, string $handler = ''): void
    {
        if ($this->scope === 0) {
            $this->begin($request); // another one in a process that was not said to serve several
        }
        if ($request === $this->request) {
            $name = Recorder::methodOf($request->getMethod()) . ' /' . \ltrim($route, '/');
            $this->recorder->name($this->scope, $name);
            $this->recorder->handledBy($handler ?: $name);
        }
    }

    public function end(): void
    {
        if ($this->scope !== 0) {
            $this->recorder->close($this->scope);
            $this->scope = 0;
            $this->request = null;
        }
    }
}
