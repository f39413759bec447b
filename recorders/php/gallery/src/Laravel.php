<?php

declare(strict_types=1);

namespace Gallery;

use Illuminate\Contracts\Console\Kernel as ConsoleKernel;
use Illuminate\Contracts\Debug\ExceptionHandler;
use Illuminate\Contracts\Http\Kernel as HttpKernel;
use Illuminate\Foundation\Application;
use Illuminate\Foundation\Exceptions\Handler;
use Illuminate\Http\Request;
use Illuminate\Routing\Router;
use KeenLantern\Record\Illuminate\RecordedApplication;
use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;

/** An application of the framework that stays, and answers one request after the other. */
final class Laravel
{
    /** @var list<class-string> providers of the application's own */
    public static array $providers = [];

    public readonly Application $app;

    /**
     * @param \Closure(Application): void $register what the application binds
     * @param ?\Closure(Router): void $routes
     * @param list<class-string> $providers of its own
     */
    public function __construct(private readonly Running $running, \Closure $register, ?\Closure $routes = null, array $providers = [])
    {
        self::$providers = $providers;
        $base = dirname(__DIR__) . '/laravel';
        foreach (['APP_SERVICES_CACHE' => 'services', 'APP_PACKAGES_CACHE' => 'packages'] as $name => $file) {
            $_ENV[$name] = $_SERVER[$name] = "$running->folder/$file.php";
        }
        $this->app = new RecordedApplication($base);
        $this->app->instance(Settings::class, $running->settings);
        $this->app->singleton(HttpKernel::class, Kernel::class);
        $this->app->singleton(ConsoleKernel::class, \Illuminate\Foundation\Console\Kernel::class);
        $this->app->singleton(ExceptionHandler::class, Handler::class);
        $this->app->booting(static fn (Application $app) => $register($app));
        $this->app->make(HttpKernel::class)->bootstrap();
        $this->app->make(ConsoleKernel::class)->bootstrap();
        if ($routes !== null) {
            $routes($this->app->make(Router::class));
        }
        $running->recordedBy($this->app->make(Recorder::class));
    }

    /** Answers a request, and releases what was scoped, as a resident server does unless its author forgets. */
    public function get(string $path, bool $forget = true, int $status = 200): string
    {
        $kernel = $this->app->make(HttpKernel::class);
        $request = Request::create($path);
        $response = $kernel->handle($request);
        $kernel->terminate($request, $response);
        if ($forget) {
            $this->app->forgetScopedInstances();
        }
        if ($response->getStatusCode() !== $status) {
            throw new \RuntimeException("$path is answered {$response->getStatusCode()}: " . substr($response->getContent(), 0, 2000));
        }
        return $response->getContent();
    }
}
