<?php

declare(strict_types=1);

return [
    'name' => 'harbour-office-php',
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
        getenv('OFFICE_ALONE') ? [] : [KeenLantern\Record\Illuminate\RecordingServiceProvider::class], // alone: to compare with
        [Saltmarsh\Office\Laravel\HarbourServiceProvider::class],
    ),
    'aliases' => [],
];
