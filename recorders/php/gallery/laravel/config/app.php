<?php

declare(strict_types=1);

return [
    'name' => 'gallery',
    'env' => 'production',
    'debug' => false,
    'timezone' => 'UTC',
    'locale' => 'en',
    'fallback_locale' => 'en',
    'cipher' => 'AES-256-CBC',
    'providers' => array_merge(
        [
            Illuminate\Bus\BusServiceProvider::class,
            Illuminate\Cache\CacheServiceProvider::class,
            Illuminate\Database\DatabaseServiceProvider::class,
            Illuminate\Filesystem\FilesystemServiceProvider::class,
            Illuminate\Foundation\Providers\FoundationServiceProvider::class,
            Illuminate\Pipeline\PipelineServiceProvider::class,
            Illuminate\Queue\QueueServiceProvider::class,
            Illuminate\Translation\TranslationServiceProvider::class,
            Illuminate\View\ViewServiceProvider::class,
        ],
        [KeenLantern\Record\Illuminate\RecordingServiceProvider::class],
        Gallery\Laravel::$providers,
    ),
    'aliases' => [],
];
