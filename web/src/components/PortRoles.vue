<script setup lang="ts">
import { NButton, NCheckbox, NInput, NInputNumber, NTable, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import type { PortRole } from '../api'
import { siteCall } from '../api'
import { plural } from '../format'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { Choice } from './choice'

// Roles of switches' ports, and which port has which: defined once, given to many at once.
const key = 'port-roles'
const session = useSession()
const site = useSite()
const plan = usePlan()
const message = useMessage()
const roles = ref<PortRole[]>([])
const changed = ref(false)
watch(
  () => site.site,
  () => {
    if (!changed.value) roles.value = (site.site?.roles ?? []).map((r) => ({ ...r }))
  },
  { immediate: true },
)
const hangs = ['switch', 'one device', 'many devices', 'nothing'].map((v) => ({ label: v, value: v }))
const switches = computed(() =>
  plan.entries.filter((e) => site.byId.get(e.profile)?.settings?.some((s) => s.key === key)),
)
const tags = ref<string[]>([])
const ports = ref('')
const role = ref<string | null>(null)

async function attempt(what: () => Promise<unknown>) {
  try {
    await what()
    return true
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
    return false
  }
}
async function save() {
  const done = await attempt(async () => {
    await siteCall('put', '', { body: { ...site.site, roles: roles.value } })
    await plan.settle()
  })
  if (done) changed.value = false
}
const touch = () => (changed.value = true)
function add() {
  roles.value.push({ name: '', hangs: 'one device', untagged: 1, tagged: '', off: false })
  touch()
}

interface Row {
  [column: string]: string
}
const column = (tag: string) =>
  site.byId.get(plan.entries.find((e) => e.tag === tag)?.profile ?? '')?.settings?.find((s) => s.key === key)
    ?.columns?.[0]?.key ?? 'port'
const rowsOf = (tag: string): Row[] => {
  try {
    return JSON.parse(plan.entries.find((e) => e.tag === tag)?.settings?.[key] || '[]') as Row[]
  } catch {
    return []
  }
}
const give = () =>
  attempt(async () => {
    await siteCall('post', '/roles-given', { body: { role: role.value!, ports: ports.value, tags: tags.value } })
    await plan.settle()
    message.success(`Ports ${ports.value} of ${tags.value.join(', ')}: ${role.value}`)
  })
const found = computed(() => plan.findings.filter((f) => f.code.startsWith('port-')))
</script>

<template>
  <p class="faint">
    A role says what hangs on a port and which virtual LANs it carries (IEEE 802.1Q). A change of a role is a difference
    of every switch that has it.
  </p>
  <NTable size="small" :bordered="false" data-test="roles">
    <thead>
      <tr>
        <th>Role</th>
        <th>What hangs there</th>
        <th>Untagged VLAN</th>
        <th>Tagged VLANs</th>
        <th>On</th>
        <th></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(r, i) in roles" :key="i">
        <td>
          <NInput
            v-model:value="r.name"
            size="small"
            :input-props="{ 'aria-label': 'Name of the role' }"
            @input="touch" />
        </td>
        <td>
          <Choice v-model:value="r.hangs" size="small" :options="hangs" name="What hangs there" @update:value="touch" />
        </td>
        <td>
          <NInputNumber
            :value="r.untagged"
            size="small"
            :min="1"
            :max="4094"
            :show-button="false"
            :input-props="{ 'aria-label': 'Untagged VLAN' }"
            @update:value="
              (n) => {
                r.untagged = n ?? r.untagged
                touch()
              }
            " />
        </td>
        <td>
          <NInput
            v-model:value="r.tagged"
            size="small"
            placeholder="408, 410-412"
            :input-props="{ 'aria-label': 'Tagged VLANs' }"
            @input="touch" />
        </td>
        <td>
          <NCheckbox :checked="!r.off" aria-label="On" @update:checked="(on: boolean) => ((r.off = !on), touch())" />
        </td>
        <td>
          <NButton size="tiny" :disabled="!session.mayPlan" @click="(roles.splice(i, 1), touch())">Remove</NButton>
        </td>
      </tr>
    </tbody>
  </NTable>
  <p v-if="session.mayPlan" class="row">
    <NButton size="small" @click="add">Add a role</NButton>
    <NButton size="small" type="primary" :disabled="!changed" data-test="roles-save" @click="save"
      >Save the roles</NButton
    >
  </p>

  <h3>Give ports a role</h3>
  <p v-if="!switches.length" class="faint">No switch in the plan has roles of ports.</p>
  <template v-else>
    <p class="row">
      <Choice
        v-model:value="tags"
        multiple
        size="small"
        class="wide"
        placeholder="Switches"
        name="Switches"
        data-test="role-switches"
        :options="switches.map((e) => ({ label: e.tag, value: e.tag }))" />
      <NInput
        v-model:value="ports"
        size="small"
        class="narrow"
        placeholder="Ports: 1-8, 24"
        :input-props="{ 'aria-label': 'Ports', 'data-test': 'role-ports' } as object" />
      <Choice
        v-model:value="role"
        size="small"
        class="narrow"
        placeholder="Role"
        name="Role"
        :options="(site.site?.roles ?? []).map((r) => ({ label: r.name, value: r.name }))" />
      <NButton
        size="small"
        type="primary"
        :disabled="!session.mayPlan || !tags.length || !ports || !role"
        data-test="role-give"
        @click="give"
        >Give it to these ports of {{ plural(tags.length, 'switch') }}</NButton
      >
    </p>
    <p v-for="f in found" :key="f.tag + f.reason" class="found">
      <span aria-hidden="true">▲</span> {{ f.tag }}: {{ f.reason }}.
    </p>
    <div v-for="e in switches" :key="e.tag" class="switch" data-test="switch-ports">
      <strong>{{ e.tag }}</strong> <span class="faint">{{ e.place }}</span>
      <div class="ports">
        <span
          v-for="r in rowsOf(e.tag)"
          :key="r[column(e.tag)]"
          class="port"
          :class="{ trunk: (r.hangs ?? site.site?.roles?.find((x) => x.name === r.role)?.hangs) === 'switch' }"
          :title="`Port ${r[column(e.tag)]}: ${r.role || r.hangs}`"
          ><b>{{ r[column(e.tag)] }}</b> {{ r.role || r.hangs || '–' }}</span
        >
        <span v-if="!rowsOf(e.tag).length" class="faint">No port has a role.</span>
      </div>
    </div>
  </template>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.wide {
  width: 260px;
}
.narrow {
  width: 170px;
}
.found span {
  color: var(--bad);
}
.switch {
  margin-top: 10px;
}
.ports {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(110px, 1fr));
  gap: 4px;
  margin-top: 4px;
}
.port {
  padding: 2px 6px;
  border: 1px solid var(--line);
  border-radius: 3px;
  background: var(--card);
  font-size: 12px;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.trunk {
  border-left: 3px solid var(--busy);
}
</style>
