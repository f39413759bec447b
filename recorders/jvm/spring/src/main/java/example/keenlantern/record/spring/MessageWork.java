package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import example.keenlantern.record.Work;
import java.util.ArrayDeque;
import org.springframework.messaging.Message;
import org.springframework.messaging.MessageChannel;
import org.springframework.messaging.MessageHandler;
import org.springframework.messaging.support.ExecutorChannelInterceptor;
import org.springframework.messaging.support.InterceptableChannel;

/** Has each message that a channel's subscriber handles be a scope. */
final class MessageWork extends Joining {
    private final ThreadLocal<ArrayDeque<Handling>> handling = ThreadLocal.withInitial(ArrayDeque::new);

    private record Handling(long scope, Work.Entered entered) {}

    MessageWork(SpringRecording recording) {
        super(recording);
    }

    @Override
    void join(Object bean, String name) {
        if (bean instanceof InterceptableChannel channel
                && channel.getInterceptors().stream().noneMatch(Watch.class::isInstance))
            channel.addInterceptor(new Watch(name));
    }

    private final class Watch implements ExecutorChannelInterceptor {
        private final String name;

        Watch(String name) {
            this.name = name;
        }

        @Override
        public Message<?> beforeHandle(Message<?> message, MessageChannel channel, MessageHandler handler) {
            Object came = message.getHeaders().get("traceparent");
            String trace = recorder.traceOf(came instanceof String text ? text : null);
            long scope =
                    recorder.open(new Event.Open().kind("message").name(name).trace(trace));
            handling.get()
                    .push(new Handling(
                            scope, recorder.in(scope, "message", trace).enter()));
            return message;
        }

        @Override
        public void afterMessageHandled(
                Message<?> message, MessageChannel channel, MessageHandler handler, Exception exception) {
            ArrayDeque<Handling> running = handling.get();
            if (running.isEmpty()) return;
            Handling done = running.pop();
            if (running.isEmpty()) handling.remove();
            done.entered.close();
            recorder.close(done.scope);
        }
    }
}
