<?php

declare(strict_types=1);

namespace Gallery;

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Symfony\RecordingPass;
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\ContainerInterface;
use Symfony\Component\DependencyInjection\Dumper\PhpDumper;

/** A container that is compiled into a class, as a kernel does. */
final class Compiled
{
    private static int $classes = 0;
    private readonly string $class;

    /** @param \Closure(ContainerBuilder): void $wire */
    public function __construct(private readonly Running $running, \Closure $wire)
    {
        $container = new ContainerBuilder();
        $container->register(Recorder::class)->setSynthetic(true)->setPublic(true); // it outlives containers
        RecordingPass::addTo($container, 'gallery');
        $wire($container);
        $container->compile();
        $this->class = 'GalleryContainer' . ++self::$classes;
        $path = "$running->folder/$this->class.php";
        file_put_contents($path, (new PhpDumper($container))->dump(['class' => $this->class]));
        require_once $path;
    }

    /** Makes a container. */
    public function boot(): ContainerInterface
    {
        $container = new $this->class();
        $container->set(Recorder::class, $this->running->recorder());
        return $container;
    }
}
