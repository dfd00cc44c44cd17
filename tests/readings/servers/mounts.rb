require 'webrick'
server = WEBrick::HTTPServer.new(BindAddress: '127.0.0.1', Port: ARGV[0].to_i, AccessLog: [], Logger: WEBrick::Log.new(File::NULL))
server.mount_proc('/') { |q, a| a.body = 'OTHER' }
server.mount_proc('/assign') { |q, a| a.body = 'CLOSED' }
server.start
