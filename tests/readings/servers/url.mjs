// A server without a framework, as many read the path: by the standard parser of addresses.
import { createServer } from 'node:http'
createServer((q, a) => {
  const { pathname } = new URL(q.url, 'http://berths.example')
  a.end(/^\/assign(\/|$)/.test(decodeURIComponent(pathname)) ? 'CLOSED' : 'OTHER')
}).on('clientError', (e, s) => s.end('HTTP/1.1 400 Bad Request\r\n\r\n')).listen(Number(process.argv[2]), '127.0.0.1')
process.on('uncaughtException', () => {})
