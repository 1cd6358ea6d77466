<template>
  <div class="page"><h1>There is no such page</h1><p class="lead">The address may be cut off. <router-link to="/today">To today’s work</router-link></p></div>
</template>
