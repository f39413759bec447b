<script setup lang="ts">
import type { StackRow } from '@/api/types'
import RegLink from '@/components/RegLink.vue'
import { useNames } from '@/composables/useNames'
import { nameOf, rounded, whole } from '@/format'

import LayerBox from './LayerBox.vue'

/** A service's layers as boxes, and who got which of them: those that bypass a layer stand out. */
withDefaults(defineProps<{ stack: StackRow; used?: boolean }>(), { used: true })
const names = useNames()
</script>

<template>
  <div>
        <h2><RegLink :of="{ service: stack.service, key: stack.key, implementation: null, at: null, lifetime: '' }" /> <span class="quiet kind">{{ stack.declared ? 'as registered' : 'as inferred from what was built' }}</span></h2>
        <div class="halves mt-2">
          <LayerBox :layers="stack.layers" :used="used" />
          <div>
            <h3>Who got what</h3>
            <div v-for="(c, k) in stack.seen" :key="k" :class="['seen', { round: !c.whole }]">
              <div class="chain">
                <span class="sign" :title="c.whole ? 'all layers' : 'bypasses a layer'">{{ c.whole ? '✓' : '◆' }}</span>
                <span v-for="(l, m) in c.layers" :key="m"><span v-if="m" class="quiet"> → </span><span :title="nameOf(l)">{{ l.implementation ? names.type(l.implementation) : names.of(l) }}</span></span>
                <span class="num ml-2" :title="whole(c.count)">{{ rounded(c.count) }} times</span>
              </div>
              <div class="quiet small">
                {{ c.whole ? 'all layers, to' : 'bypasses a layer:' }}
                <span v-for="(w, m) in c.who.slice(0, 6)" :key="m">{{ m ? ', ' : '' }}<RegLink v-if="w.consumer" :of="w.consumer" /><template v-else>{{ w.entry || 'not seen' }}</template></span>
                <template v-if="c.who.length > 6"> and {{ c.who.length - 6 }} more</template>
              </div>
            </div>
            <p v-if="!stack.seen.length" class="quiet">It was not handed out so far.</p>
          </div>
        </div>
  </div>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 440px), 1fr));
  gap: 24px;
}
.kind {
  font-size: 0.8rem;
  font-weight: 400;
}
h3 {
  font-size: 0.85rem;
  font-weight: 600;
  margin-bottom: 4px;
}
.seen {
  padding: 4px 10px;
  margin-bottom: 6px;
  border-left: 3px solid rgba(var(--v-theme-on-surface), 0.25);
  overflow-wrap: anywhere;
}
.round {
  border-left-color: rgb(var(--v-theme-error));
}
.round .sign {
  color: rgb(var(--v-theme-error));
}
.sign {
  display: inline-block;
  width: 1.4em;
}
.small {
  font-size: 0.8rem;
}
</style>
