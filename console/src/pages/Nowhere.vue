<template>
  <div class="page"><v-empty-state title="There is no such page" text="The address may be cut off." action-text="To today" to="/today" /></div>
</template>
