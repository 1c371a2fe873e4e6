<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed } from 'vue'
import { siteCall } from '../api'
import type { RunDevice } from '../api'
import { plural } from '../format'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useWork } from '../stores/work'

// What needs a person, before everything else.
const session = useSession()
const plan = usePlan()
const segment = useSegment()
const work = useWork()
const emit = defineEmits<{ show: [tag: string]; filter: [state: string]; attempt: [what: () => Promise<unknown>] }>()
const failing = computed(() => plan.entries.filter((e) => e.state === 'needs attention'))
const stops = computed(() => plan.findings.filter((f) => f.level === 'stops'))
// What is only good to know is among the findings.
const heard = computed(() => segment.findings.filter((f) => !f.quiet))
// Where the segment shows it, the run goes on by itself.
const did = (d: RunDevice) => siteCall('post', '/runs/{id}/hands', { path: { id: d.run }, body: { tags: [d.tag] } })
const any = computed(() => work.hands.length + failing.value.length + stops.value.length + heard.value.length > 0)
</script>

<template>
  <section v-if="any" class="attention" aria-label="Needs a person">
    <p v-for="x in work.hands.slice(0, 3)" :key="x.entry.tag" class="hand" data-test="hand">
      <span aria-hidden="true">■</span>
      <span
        ><button class="link" @click="emit('show', x.entry.tag)">{{ x.entry.tag }}</button> {{ x.entry.place }}:
        <strong>{{ x.hand.do }}</strong><template v-if="x.hand.look">; {{ x.hand.look }}</template
        ><template v-if="x.hand.handWho">; {{ x.hand.handWho }} is at it</template
        ><template v-if="x.hand.within">; what follows is done within {{ Math.round(x.hand.within / 60) }} min</template
        >.</span
      >
      <RouterLink v-if="x.hand.terms" to="/hands" data-test="hand-terms">Read and accept…</RouterLink>
      <NButton
        v-else-if="session.mayCommission"
        size="tiny"
        type="primary"
        data-test="hand-done"
        @click="emit('attempt', () => did(x.step))"
        >Done</NButton
      >
    </p>
    <p v-if="work.hands.length > 3">
      <RouterLink to="/hands" data-test="all-hands">All {{ work.hands.length }} that wait for a hand</RouterLink>
    </p>
    <p v-for="f in heard.slice(0, 2)" :key="f.text" class="note" data-test="finding">
      <span aria-hidden="true">◆</span> {{ f.text.charAt(0).toUpperCase() + f.text.slice(1)
      }}<template v-if="f.next">; {{ f.next }}</template
      >.
    </p>
    <p v-if="heard.length && segment.findings.length > Math.min(2, heard.length)">
      <RouterLink to="/findings" data-test="all-notices"
        >All {{ segment.findings.length }} notes on the segment</RouterLink
      >
    </p>
    <p v-for="f in stops.slice(0, 2)" :key="f.tag + f.profile + f.field" class="bad">
      <span aria-hidden="true">▲</span>
      <button v-if="f.tag" class="link" @click="emit('show', f.tag)">{{ f.tag }}</button> {{ f.field }}: {{ f.reason }}
    </p>
    <p v-if="stops.length > 2">
      <RouterLink to="/findings">All {{ stops.length }} findings that stop commissioning</RouterLink>
    </p>
    <p v-for="e in failing.slice(0, 3)" :key="e.tag" class="bad">
      <span aria-hidden="true">▲</span> <button class="link" @click="emit('show', e.tag)">{{ e.tag }}</button>
      {{ e.reason }}
    </p>
    <p v-if="failing.length > 3">
      <NButton text size="small" @click="emit('filter', 'needs attention')"
        >All {{ plural(failing.length, 'entry') }} that need attention</NButton
      >
    </p>
  </section>
</template>

<style scoped>
.attention {
  margin-top: 8px;
  padding: 6px 10px;
  background: var(--card);
  border: 1px solid var(--line);
  border-left: 3px solid var(--warn);
  border-radius: 4px;
}
p {
  margin: 2px 0;
}
.hand {
  display: flex;
  gap: 8px;
  align-items: baseline;
}
.bad > span {
  color: var(--bad);
}
.note > span,
.hand > span:first-child {
  color: var(--warn);
}
</style>
