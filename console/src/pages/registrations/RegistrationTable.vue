<script setup lang="ts">
import { computed } from 'vue'

import type { ViewQuery } from '@/api/client'
import type { RegistrationRow } from '@/api/types'
import ExportMenu from '@/components/ExportMenu.vue'
import LifetimeTag from '@/components/LifetimeTag.vue'
import PageState from '@/components/PageState.vue'
import PlaceText from '@/components/PlaceText.vue'
import RegLink from '@/components/RegLink.vue'
import VerdictTag from '@/components/VerdictTag.vue'
import { useQuery } from '@/composables/useQuery'
import { useNames } from '@/composables/useNames'
import { useView } from '@/composables/useView'
import type { Column } from '@/download'
import { nameOf, rounded, took, whole } from '@/format'

import CreationText from './CreationText.vue'
import { firstAskers, namesOf } from './names'

/** The registrations that a filter lets through, a line each; an opened one shows the rest. */
const props = defineProps<{ recording: string; filter: ViewQuery<'registrations'> }>()
const { number } = useQuery()
const page = number('page', 1)
const open = number('open', -1, 'replace')
const rows = 100
const names = useNames()
const { data, error, loading, refresh } = useView(
  () => props.recording,
  'registrations',
  () => ({ ...props.filter, limit: rows, offset: (page.value - 1) * rows }),
)
const pages = computed(() => Math.ceil((data.value?.total ?? 0) / rows))
const mechanisms: Record<string, string> = {
  interface: 'an interface that it implements',
  annotation: 'an annotated method',
  name: 'a method that the registration names',
  code: 'application code',
}
const columns: Column<RegistrationRow>[] = [
  { title: 'service', value: (r) => nameOf(r.registration) },
  { title: 'implementation', value: (r) => r.registration.implementation },
  { title: 'lifetime', value: (r) => r.registration.lifetime },
  { title: 'at', value: (r) => r.registration.at },
  { title: 'behaved', value: (r) => r.observed.as },
  { title: 'agrees', value: (r) => r.observed.agrees },
  { title: 'made', value: (r) => r.made },
  { title: 'alive', value: (r) => r.alive },
  { title: 'took_ns', value: (r) => r.took_ns },
  { title: 'first_made', value: (r) => r.first?.when },
  { title: 'asked', value: (r) => r.asked },
  { title: 'why', value: (r) => r.why },
]
</script>

<template>
  <PageState :error="error" :loading="loading && !data" what="the registrations" @retry="refresh" />
  <template v-if="data">
    <Teleport to="#registrations-export"><ExportMenu name="registrations" :data="data" :columns="columns" :rows="data.registrations" /></Teleport>
    <v-card>
      <p v-if="!data.registrations.length" class="pa-4 quiet">{{ data.total ? 'Nothing is on this page.' : 'No registration is let through by the filters, or none has come yet.' }}</p>
      <v-table v-else hover class="shares">
        <thead>
          <tr>
            <th style="width: 24%">Service and implementation</th>
            <th style="width: 116px">Lifetime</th>
            <th style="width: 18%">Behaved</th>
            <th class="num" style="width: 74px">Made</th>
            <th class="num" style="width: 68px">Alive</th>
            <th class="num" style="width: 92px">Building</th>
            <th>Asked for by</th>
            <th style="width: 10%">Which answers</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="r in data.registrations" :key="r.id">
            <tr :data-registration="r.id">
              <td class="what">
                <button type="button" class="name" :aria-expanded="open === r.id" :title="nameOf(r.registration)" @click="open = open === r.id ? -1 : r.id">{{ names.of(r.registration) }}</button>
                <span v-if="r.internal" class="quiet"> added by the framework</span>
                <div class="quiet small">
                  <span v-if="r.registration.implementation && r.registration.implementation !== r.registration.service" :title="r.registration.implementation">{{ names.type(r.registration.implementation) }} · </span>
                  <PlaceText v-if="r.registration.at" :at="r.registration.at" />
                </div>
              </td>
              <td><LifetimeTag :lifetime="r.registration.lifetime ?? ''" /></td>
              <td><VerdictTag :verdict="r.observed" /><div v-if="r.first" class="quiet small">first made {{ r.first.when }}</div></td>
              <td class="num" :title="whole(r.made)">{{ rounded(r.made) }}</td>
              <td class="num" :title="whole(r.alive)">{{ rounded(r.alive) }}</td>
              <td class="num" :title="`${r.took_ns} ns in all, the longest ${r.max_ns} ns`">{{ took(r.took_ns) }}</td>
              <td class="askers">
                <template v-for="(a, n) in firstAskers(r.asked_by)" :key="n">{{ n ? ', ' : '' }}<RegLink v-if="a.consumer" :of="a.consumer" /><template v-else>{{ a.entry || 'not seen' }}</template></template>
                <span v-if="r.asked_by.length > 2" class="quiet"> and others</span>
                <span v-if="!r.asked_by.length" class="quiet">–</span>
              </td>
              <td>{{ r.answers ? 'this one' : 'not this one' }}<div v-if="r.lost_to" class="small">lost to <RegLink :of="r.lost_to" /></div></td>
            </tr>
            <tr v-if="open === r.id" class="more">
              <td colspan="8">
                <dl>
                  <dt>Behaved</dt><dd>{{ r.observed.as }}: {{ names.prose(r.observed.why) }}</dd>
                  <template v-if="r.first"><dt>First made</dt><dd><CreationText :of="r.first" /></dd></template>
                  <template v-if="r.last && r.made > 1"><dt>Last made</dt><dd><CreationText :of="r.last" /></dd></template>
                  <template v-if="r.template.length"><dt>Template</dt><dd>{{ r.template.includes('any-key') ? 'answers for any key' : 'answers for any type argument' }}; {{ r.forms.length ? 'forms: ' : 'no form was met' }}<RegLink v-for="(f, n) in r.forms" :key="n" class="mr-3" :of="f" /></dd></template>
                  <template v-if="r.form_of"><dt>Form of</dt><dd><RegLink :of="r.form_of" /></dd></template>
                  <template v-if="r.pooled"><dt>Pooled</dt><dd>instances are leased to one scope at a time and returned</dd></template>
                  <template v-if="r.signature"><dt>Constructor</dt><dd class="code">{{ r.signature }}</dd></template>
                  <template v-if="r.mechanism"><dt>Disposed by</dt><dd>{{ mechanisms[r.mechanism] ?? r.mechanism }}</dd></template>
                  <dt>Which answers, and why</dt><dd>{{ r.why ? names.prose(r.why) : 'not asked for' }}</dd>
                  <template v-if="r.declared && r.declared !== r.registration.lifetime"><dt>Declared</dt><dd>{{ r.declared }}</dd></template>
                  <template v-if="r.needs.length"><dt>Asks for</dt><dd>{{ namesOf(r.needs, names.type) }}</dd></template>
                  <template v-if="r.wraps"><dt>Wraps</dt><dd><RegLink :of="r.wraps" /></dd></template>
                  <template v-if="r.wrapped_by.length"><dt>Wrapped by</dt><dd><RegLink v-for="(w, n) in r.wrapped_by" :key="n" class="mr-3" :of="w" /></dd></template>
                  <template v-if="r.alias"><dt>Alias of</dt><dd><RegLink :of="r.alias" /></dd></template>
                  <template v-if="r.also.length"><dt>Also answers to</dt><dd>{{ r.also.map((a) => names.type(a.service) + (a.key === null ? '' : ` [${a.key}]`)).join(', ') }}</dd></template>
                  <template v-if="r.container"><dt>Container</dt><dd>{{ r.container }}</dd></template>
                  <dt>Used, disposed</dt><dd>{{ whole(r.used) }} uses, {{ whole(r.disposed) }} disposed</dd>
                  <dt>Asked for by</dt>
                  <dd>
                    <div v-for="(a, n) in r.asked_by.slice(0, 20)" :key="n">
                      <RegLink v-if="a.consumer" :of="a.consumer" /><span v-else>{{ a.entry || 'not seen' }}</span>
                      <span class="quiet"> {{ a.how }}{{ a.all ? ', among all' : '' }}{{ a.site ? ` (${a.site})` : '' }} · {{ whole(a.count) }} times</span>
                    </div>
                    <span v-if="r.askers > 20" class="quiet">and {{ whole(r.askers - 20) }} others, who asked less often</span>
                    <span v-if="!r.asked_by.length" class="quiet">not asked for so far</span>
                  </dd>
                  <dt>Elsewhere</dt>
                  <dd>
                    <router-link class="app-link mr-4" :to="{ name: 'sharing', params: { recording }, query: { service: r.registration.service } }">who got which instance</router-link>
                    <router-link class="app-link mr-4" :to="{ name: 'findings', params: { recording }, query: { service: r.registration.service } }">findings</router-link>
                    <router-link class="app-link mr-4" :to="{ name: 'disposal', params: { recording }, query: { service: r.registration.service } }">alive over time</router-link>
                    <router-link class="app-link" :to="{ name: 'registrations', params: { recording }, query: { view: 'graph', focus: r.id } }">in the graph</router-link>
                  </dd>
                </dl>
              </td>
            </tr>
          </template>
        </tbody>
      </v-table>
    </v-card>
    <v-pagination v-if="pages > 1" v-model="page" :length="pages" density="comfortable" class="mt-3" />
  </template>
</template>

<style scoped>
.what {
  overflow-wrap: anywhere;
  padding-top: 5px !important;
  padding-bottom: 5px !important;
}
.name {
  font-weight: 600;
  color: rgb(var(--v-theme-link));
  text-align: left;
}
.small {
  font-size: 0.8rem;
}
.more td {
  padding: 8px 16px 14px 32px !important;
  background: rgba(var(--v-theme-band), 0.05);
}
dl {
  display: grid;
  grid-template-columns: 170px 1fr;
  gap: 4px 16px;
}
dt {
  font-weight: 600;
}
</style>
