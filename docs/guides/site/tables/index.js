module.exports = [
  { station: 'north-pier', high: '04:12' },
  { station: 'lock-gate', high: '04:40' },
]
